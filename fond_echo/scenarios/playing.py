"""Playing scenarios: step by step, in a chat or a call, held against what must come of each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from fond_echo.core.dialogue.outcomes import FALLBACK
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.case import CaseFile
from fond_echo.documents.scenario import CHAT, Noise, ScenarioFile, ScenarioStep, Where
from fond_echo.scenarios.simulated import Around, Call, Came, Chat, Conversation


@dataclass(frozen=True)
class StepResult:
    """What came of a step, and what of it is not as it must be."""

    number: int
    what: str
    came: Came
    failures: tuple[str, ...] = ()


@dataclass(frozen=True)
class Played:
    """A scenario that was played: where, each step, and how long it would have lasted."""

    scenario: str
    where: Where
    steps: tuple[StepResult, ...]
    seconds: float

    @property
    def failures(self) -> list[str]:
        """All that is not as it must be, with the numbers of the steps."""
        return [f"step {each.number}: {why}" for each in self.steps for why in each.failures]


async def play(
    scenario: ScenarioFile, where: Where, assistant: AssistantFile, revision: str, around: Around,
    voice: str = "",
) -> Played:  # fmt: skip
    """Play a scenario from its beginning; one whose conversation ended early fails from there on.

    Args:
        voice: speaks in the place of the scenario's own.
    """
    talk = Conversation(scenario, assistant, revision, around, voice)
    begun = talk.now
    person = Chat(talk) if where == CHAT else Call(talk)
    await person.begin()
    steps: list[StepResult] = []
    over = False
    for number, step in enumerate(scenario.steps, 1):
        if step.on not in (None, where):
            continue
        if over:
            gone = ("the conversation was over before",)
            steps.append(StepResult(number, _what(step), Came(ended=True), gone))
            continue
        came = await _do(step, person)
        steps.append(StepResult(number, _what(step), came, tuple(judged(step, came))))
        over = came.ended
    seconds = (talk.now - begun).total_seconds()
    return Played(scenario.scenario, where, tuple(steps), seconds)


async def _do(step: ScenarioStep, person: Chat | Call) -> Came:
    if step.says:
        return await person.says(step.says, interrupts=step.interrupts)
    if step.types:
        return await person.types(step.types)
    if step.presses:
        return await person.presses(step.presses)
    if step.picks:
        return await person.picks(step.picks)
    return await person.waits(step.waits or 0.0)


def _what(step: ScenarioStep) -> str:
    if step.waits:
        return f"waits {step.waits:g} s"
    name = next(n for n in ("says", "types", "presses", "picks") if getattr(step, n))
    return f"{name} {getattr(step, name)}"


def judged(step: ScenarioStep, came: Came) -> list[str]:
    """What of a step is not as it must be, in words."""
    wanted, found = step.expect, []
    form = came.outcome
    for name in ("reminded", "interrupted", "ended"):
        want = getattr(wanted, name)
        if want is not None and want != getattr(came, name):
            found.append(f"it was {'not ' if want else ''}{name}")
    of_a_turn = any((wanted.heard, wanted.route, wanted.outcome, wanted.slots, wanted.contains,
                     wanted.choices))  # fmt: skip
    if form is None:
        return [*found, "nothing came of it"] if of_a_turn or not step.waits else found
    if form.error:
        return [*found, form.error]
    for name, want, got in (
        ("heard", wanted.heard, form.text), ("route", wanted.route, form.route),
        ("outcome", wanted.outcome, form.outcome),
    ):  # fmt: skip
        if want and want != got:
            found.append(f"{name} is {got!r}, not {want!r}")
    slots = _slots(came)
    found += [f"slot {slot} is {slots.get(slot)!r}, not {value!r}"
              for slot, value in wanted.slots.items()
              if str(slots.get(slot)) != str(value)]  # fmt: skip
    said = f"{form.written}\n{form.spoken}".casefold()
    found += [f"{p!r} is not said: {form.written!r}" for p in wanted.contains
              if p.casefold() not in said]  # fmt: skip
    found += [f"{p!r} is said: {form.written!r}" for p in wanted.lacks if p.casefold() in said]
    if wanted.choices and wanted.choices != form.choices:
        found.append(f"choices are {form.choices}, not {wanted.choices}")
    if form.not_run and (wanted.contains or wanted.lacks):
        found.append(f"not run: {form.not_run}")
    return found


def _slots(came: Came) -> dict[str, Any]:
    """The values there are by then: of the route that was taken, or of the one that is open."""
    values = dict(came.outcome.slots) if came.outcome is not None else {}
    routed = came.turn.routed if came.turn is not None else None
    if routed is not None and routed.open:
        values |= {name: value for name, (value, _) in routed.open["filled"].items()}
    return values


@dataclass(frozen=True)
class Fragile:
    """A phrase, and by how many of the speakers it was taken as it must be, in each noise."""

    phrase: str
    passed: tuple[int, ...]


async def fragile(
    scenario: ScenarioFile, where: Where, assistant: AssistantFile, revision: str, around: Around,
    voices: Sequence[str], noises: Sequence[Noise | None],
) -> list[Fragile]:  # fmt: skip
    """The phrases of a scenario, spoken by several people in several noises."""
    counts: dict[int, list[int]] = {}
    phrases: dict[int, str] = {}
    for place, noise in enumerate(noises):
        noisy = scenario.model_copy(update={"noise": noise})
        for voice in voices:
            played = await play(noisy, where, assistant, revision, around, voice)
            for each in played.steps:
                if not scenario.steps[each.number - 1].says:
                    continue
                phrases[each.number] = scenario.steps[each.number - 1].words
                row = counts.setdefault(each.number, [0] * len(noises))
                row[place] += not each.failures
    return [Fragile(phrases[number], tuple(row)) for number, row in sorted(counts.items())]


@dataclass
class Coverage:
    """What of an assistant cases and scenarios reach: routes that answered, slots that were filled,
    choices that were taken."""

    routes: set[str] = field(default_factory=set)
    slots: set[tuple[str, str]] = field(default_factory=set)
    choices: set[str] = field(default_factory=set)

    def saw(self, came: Came) -> None:
        """A turn of a scenario."""
        turn = came.turn
        if turn is None or turn.routed is None:
            return
        if turn.routed.outcome in ("reply", "recorded"):
            self.routes.add(turn.routed.route)
        self.slots |= {(turn.routed.route, name) for name in _slots(came)}
        if turn.choice:
            self.choices.add(turn.choice)
        self.choices |= {c for c in turn.state.choices if c.casefold() == turn.text.casefold()}

    def case(self, case: CaseFile, route: str, outcome: str, slots: Sequence[str]) -> None:
        """A case that was run."""
        if outcome in ("reply", "recorded"):
            self.routes.add(route)
        self.slots |= {(route, name) for name in slots}
        if case.choice:
            self.choices.add(case.choice)

    def missing(self, assistant: AssistantFile) -> dict[str, list[str]]:
        """What nothing reaches, by its kind."""
        routes = [each.route for each in assistant.routes] + [FALLBACK]
        slots = [(each.route, name) for each in assistant.routes for name in each.slots]
        offered = [
            choice.value
            for _, _, reply in assistant.replies()
            for choice in reply.choices
        ] + [
            choice.value
            for each in assistant.routes
            for slot in each.slots.values()
            for choice in slot.choices
        ]  # fmt: skip
        return {
            "routes": [each for each in routes if each not in self.routes],
            "slots": [
                f"{route}.{name}" for route, name in slots if (route, name) not in self.slots
            ],
            "choices": [each for each in dict.fromkeys(offered) if each not in self.choices],
        }
