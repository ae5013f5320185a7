"""Running cases: what must come out of a kept turn, on a revision."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, Protocol

from fond_echo.contract.base import new_id
from fond_echo.contract.channel import Inbound, SoundHandle
from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.replay import CaseOut, StageTime, TurnOutcome
from fond_echo.contract.reply import Reply
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.inspect import inspect
from fond_echo.core.audio.voicenote import encode_voice_note
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.reads_as import other_language
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.case import CaseFile, Expectation, KeptAnswer
from fond_echo.documents.paths import pattern
from fond_echo.documents.services import LogicService
from fond_echo.replays.nothing_outside import NothingOutside
from fond_echo.replays.recorded_engine import RecordedEngine
from fond_echo.replays.replaying import take_again
from fond_echo.replays.same_question import answer_of, differences, sent
from fond_echo.turns.ports import AnswererPort, HelperPort, LogicPort
from fond_echo.turns.state import ConversationState
from fond_echo.turns.turn import TurnSoFar

Hearing = Callable[[str, Expected], Awaitable[Heard]]
"""Hears a recording of the folder, by its name."""


Asked = tuple[str, Mapping[str, Any]]


@dataclass(frozen=True)
class Aloud:
    """Speaks a reply as an assistant does, and hears it again.

    Attributes:
        speak: words to sound, in an assistant's voice.
        hear: what is heard in a sound, freely, in spoken form.
    """

    speak: Callable[[str, AssistantFile], Awaitable[Clip]]
    hear: Callable[[Clip, str], Awaitable[str]]


class EnginePorts(Protocol):
    """Engines that are asked for real."""

    @property
    def answerer(self) -> AnswererPort: ...
    @property
    def helper(self) -> HelperPort: ...


@dataclass
class CaseAnswers:
    """What a case says that business logic answered.

    Attributes:
        asked: the business logic that was wanted, each with the slots it was asked with.
        others: why no answer is used, though some are kept.
    """

    kept: Sequence[KeptAnswer]
    asked: list[Asked] = field(default_factory=list)
    others: list[str] = field(default_factory=list)

    def logic(
        self, name: str, asked: LogicRequest, service: LogicService
    ) -> Sequence[Reply] | None:
        """The answer that is kept for the same question."""
        self.asked.append((name, asked.slots))
        now = sent(service, asked, named=True)
        others = []
        for kept in self.kept:
            if kept.asks != name:
                continue
            if any(str(asked.slots.get(slot)) != str(value) for slot, value in kept.slots.items()):
                others.append(f"slots {asked.slots}, not {kept.slots}")
            elif kept.sent is not None and kept.sent != now:
                others.append(differences(kept.sent, now))
            elif kept.received is None:
                return kept.answers
            elif service.answer is None:
                others.append("the service's answer is not read from its JSON any more")
            else:
                return answer_of(service, kept.received)
        if others:
            what = f"the answer of {name} is kept for another question: it would be asked with "
            self.others.append(what + " / ".join(others))
        return None

    def led(self) -> None:
        """A case keeps the words of an engine, and no route."""

    def free(self, turn: Any) -> Sequence[Reply] | None:
        return None


async def run_case(
    case: CaseFile, assistant: AssistantFile, revision: str, logic: LogicPort,
    hear: Hearing | None = None, aloud: Aloud | None = None,
    engines: EnginePorts | None = None,
) -> CaseOut:  # fmt: skip
    """Take a case's turn with a revision, and hold it against what must come out.

    Args:
        logic: asked where that is safe and the case keeps no answer.
        hear: needed for cases with a recording.
        aloud: needed for cases that say how the reply must sound.
        engines: asked for real, in place of what the case keeps of them.
    """
    begun = time.perf_counter()
    kept = CaseAnswers(case.logic)
    turn = TurnSoFar(
        id=new_id(), run_id=new_id(), run="case", number=1, channel="case", conversation_id="case",
        contact_id="case", contact_name=case.contact, assistant=assistant, revision=revision,
        inbound=Inbound(
            id=new_id(), conversation="case", contact="case", name=case.contact, text=case.said,
            choice=case.choice or None, command=case.command,
            sound=SoundHandle(handle=case.sound) if case.sound else None,
        ),
        clock=case.now or datetime.now(UTC), seed=1, memory=case.memory,
        state=ConversationState.read(case.state),
    )  # fmt: skip
    if case.sound and hear is None:
        why = "its recording cannot be heard here: run it with speech"
        return CaseOut(case=case.case, passed=False, failures=[why])

    async def of_recording(expected: Expected) -> Heard:
        assert hear is not None
        return await hear(case.sound, expected)

    needs = NothingOutside(logic, kept)
    recorded = RecordedEngine(case.engine)
    if engines is not None:
        needs.answerer, needs.helper = engines.answerer, engines.helper
    elif case.engine:
        needs.answerer = recorded
    form = await take_again(turn, assistant, revision, needs, of_recording if case.sound else None)
    failures = [*kept.others, *judged(case, form, kept.asked)]
    if recorded.left and recorded is needs.answerer:
        failures.append(f"{recorded.left} kept answers of the engine were not asked for")
    if case.expect.of_sound:
        form, of_sound = await _sounds(case, form, assistant, aloud)
        failures += of_sound + _stages(case, form)
    seconds = round(time.perf_counter() - begun, 3)
    return CaseOut(
        case=case.case, passed=not failures, failures=failures, seconds=seconds, form=form
    )


async def _sounds(
    case: CaseFile, form: TurnOutcome, assistant: AssistantFile, aloud: Aloud | None
) -> tuple[TurnOutcome, list[str]]:
    """The outcome with the stages that make its sound, and what of it is not as it must be."""
    wanted, found = case.expect, []
    if aloud is None:
        return form, ["the reply cannot be spoken here: run it with speech"]
    if not form.spoken:
        must_sound = wanted.spoken_at_most or wanted.voice_note or wanted.heard_as
        return form, ["nothing is spoken"] if must_sound else []
    times = list(form.stages)

    def took(stage: str, since: float) -> float:
        now = time.perf_counter()
        times.append(StageTime(stage=stage, milliseconds=round(1000 * (now - since), 2)))
        return now

    since = time.perf_counter()
    try:
        clip = await aloud.speak(form.spoken, assistant)
        since = took("speak", since)
        note = await asyncio.to_thread(encode_voice_note, clip, 1)
        took("encode", since)
        if wanted.spoken_at_most and clip.seconds > wanted.spoken_at_most:
            found.append(f"it is spoken for {clip.seconds:.1f} s, not {wanted.spoken_at_most:g}")
        if wanted.voice_note:
            problems = [each.what for each in (await asyncio.to_thread(inspect, note)).findings]
            found += [f"it is no proper voice note: {each}" for each in problems]
        if wanted.heard_as:
            heard = f" {await aloud.hear(clip, assistant.language)} "
            tokens = assistant.its_language.writing.spoken_tokens
            found += [f"{each!r} does not come back: {heard.strip()!r}"
                      for each in wanted.heard_as
                      if f" {' '.join(tokens(each))} " not in heard]  # fmt: skip
    except FondEchoError as error:
        found.append(f"its sound: {error}")
    return form.model_copy(update={"stages": times}), found


def _stages(case: CaseFile, form: TurnOutcome) -> list[str]:
    """Where other stages ran than must run."""
    ran = [each.stage for each in form.stages]
    wanted = case.expect.stages
    if not wanted or set(ran) == set(wanted):
        return []
    return [f"the stages that ran are {', '.join(ran)}, not {', '.join(wanted)}"]


def _asked_otherwise(case: CaseFile, asked: Sequence[Asked]) -> list[str]:
    """Where business logic was not asked as it must be."""
    wanted, names = case.expect, [name for name, _ in asked]
    if wanted.asks == "none":
        return [f"{names[0]} was asked"] if names else []
    if wanted.asks and wanted.asks not in names:
        return [f"{wanted.asks} was not asked"]
    if not wanted.asks_with:
        return []
    of_it = [slots for name, slots in asked if wanted.asks in ("", name)]
    if not of_it:
        return ["no business logic was asked"]
    last = of_it[-1]
    return [f"business logic was asked with {slot} {last.get(slot)!r}, not {value!r}"
            for slot, value in wanted.asks_with.items()
            if str(last.get(slot)) != str(value)]  # fmt: skip


def _answered_otherwise(wanted: Expectation, form: TurnOutcome) -> list[str]:
    """Where a free answer is not what it must be."""
    found = []
    called = [each.engine for each in form.asked if each.kind == "function"]
    if wanted.calls == ["none"]:
        found += [f"{name} was called" for name in called[:1]]
    else:
        found += [f"{name} was not called" for name in wanted.calls if name not in called]
    words = len(form.written.split())
    if wanted.words_at_most and words > wanted.words_at_most:
        found.append(f"the text has {words} words, not at most {wanted.words_at_most}")
    judged = form.verdict
    if wanted.verdicts and (judged is None or judged.kind not in wanted.verdicts):
        what = f"{judged.kind}: {judged.reason}" if judged is not None else "there is none"
        found.append(f"the verdict is not {' or '.join(wanted.verdicts)} ({what})")
    if wanted.language and (other := other_language(form.written, wanted.language)):
        found.append(f"the text is in the language {other}, not {wanted.language}")
    return found


def judged(case: CaseFile, form: TurnOutcome, asked: Sequence[Asked]) -> list[str]:
    """What of a case does not hold, in words."""
    wanted, found = case.expect, []

    def must(name: str, want: Any, got: Any) -> None:
        if want and want != got:
            found.append(f"{name} is {got!r}, not {want!r}")

    must("heard", wanted.heard, form.text)
    must("route", wanted.route, form.route)
    must("outcome", wanted.outcome, form.outcome)
    for slot, value in wanted.slots.items():
        got = form.slots.get(slot)
        if str(got) != str(value):
            found.append(f"slot {slot} is {got!r}, not {value!r}")
    written, spoken = form.written.casefold(), form.spoken.casefold()
    found += [f"the text lacks {p!r}: {form.written!r}" for p in wanted.contains
              if p.casefold() not in written]  # fmt: skip
    found += [f"the text has {p!r}: {form.written!r}" for p in wanted.lacks
              if p.casefold() in written]  # fmt: skip
    found += [f"{p!r} is not spoken: {form.spoken!r}" for p in wanted.spoken
              if p.casefold() not in spoken]  # fmt: skip
    if wanted.matches and not pattern(wanted.matches).search(form.written):
        found.append(f"the text does not match {wanted.matches!r}: {form.written!r}")
    if wanted.choices and wanted.choices != form.choices:
        found.append(f"choices are {form.choices}, not {wanted.choices}")
    found += _asked_otherwise(case, asked)
    found += _answered_otherwise(wanted, form)
    unasked = bool(form.not_run) and (wanted.contains or wanted.matches or wanted.spoken)
    if form.error:
        found.append(form.error)
    elif unasked:
        found.append(f"not run: {form.not_run}")
    return found
