"""Replays: a turn taken again as it was frozen (decision 2), on another revision of its assistant.

Nothing is sent outside. What business logic and engines answered then is used where they would be
asked for the same; else logic is asked only where its route says that asking is safe.
"""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any, get_args

from fond_echo.answers.sentences import failed, greeting
from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.replay import (
    ReplayOut,
    RouteChance,
    SentenceCompared,
    StageTime,
    TurnOutcome,
    VerdictCount,
)
from fond_echo.contract.reply import AnswerVerdict, Reply
from fond_echo.contract.turn import Heard
from fond_echo.core.dialogue.compared import ComparedSentence, compared, says_the_same
from fond_echo.core.dialogue.outcomes import FALLBACK
from fond_echo.core.dialogue.verdict import VerdictKind
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.language import Language
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.services import LogicService
from fond_echo.replays.nothing_outside import NothingOutside
from fond_echo.replays.same_question import answered_again, sent
from fond_echo.stages.answer import answer, request
from fond_echo.stages.route import understand
from fond_echo.stages.speak import spoken_words
from fond_echo.turns.errors import StageError
from fond_echo.turns.expected import expected_of
from fond_echo.turns.ready import RoutedTurn, ready
from fond_echo.turns.turn import Answered, Routed, TurnSoFar

Hearing = Callable[[Expected], Awaitable[Heard]]

SCORES = 5
"""So many of the likeliest routes are told."""

WEIGHED = (
    "error", "text", "route", "outcome", "slots", "not_run", "verdict", "written", "choices",
    "spoken",
)  # fmt: skip
"""What may be different between two forms of a turn, the weightiest first."""


@dataclass(frozen=True)
class RecordedAnswers:
    """What business logic and engines answered in the run that is replayed."""

    was: TurnSoFar

    def logic(
        self, name: str, asked: LogicRequest, service: LogicService
    ) -> Sequence[Reply] | None:
        """The answer to an equal question, as today's assistant reads it; None where it is another,
        or none was kept."""
        was = self.was
        if was.routed is None or was.answered is None or was.answered.apology_for:
            return None
        if was.assistant.spec(was.routed.route).logic != name:
            return None
        before = was.assistant.logic.get(name.partition(".")[0])
        then = request(ready(was, RoutedTurn), asked.action)
        if before is None or sent(before, then) != sent(service, asked):
            return None
        return answered_again(before, service, name, was.answered.asked, was.answered.parts)

    def free(self, turn: TurnSoFar) -> Sequence[Reply] | None:
        """The answer of an engine, where brief, words and what went before are the same."""
        was = self.was
        if was.routed is None or was.answered is None or was.answered.apology_for:
            return None
        route = FALLBACK if was.answered.routed is not None else was.routed.route
        then, now = was.assistant.spec(route), turn.assistant.spec(_route(turn))
        same = then.free and then == now and _briefs(was) == _briefs(turn)
        documents = was.assistant.documents_of(route)
        others = turn.assistant.documents_of(_route(turn))
        pages = (documents and documents.passages) == (others and others.passages)
        return was.answered.parts if same and pages and was.text == turn.text else None

    def led(self) -> Routed | None:
        """Where an engine led the turn."""
        return self.was.answered.routed if self.was.answered is not None else None


def _briefs(turn: TurnSoFar) -> tuple[object, ...]:
    """All that an engine may be told to go by, and where the talk was handed to."""
    return turn.assistant.brief, turn.assistant.briefs, turn.state.brief


def _route(turn: TurnSoFar) -> str:
    return turn.routed.route if turn.routed is not None else ""


async def take_again(
    turn: TurnSoFar, assistant: AssistantFile, revision: str, needs: NothingOutside,
    hear: Hearing | None = None, *, as_routed: bool = False,
) -> TurnOutcome:  # fmt: skip
    """A turn taken with a revision, from what was heard on, or from its sound.

    Args:
        turn: with nothing added but what was heard.
        hear: hears its sound against what that revision expects.
        as_routed: it keeps the route and slots that it had, where that revision has the route.
    """
    return (await taken_again(turn, assistant, revision, needs, hear, as_routed=as_routed))[1]


async def taken_again(
    turn: TurnSoFar, assistant: AssistantFile, revision: str, needs: NothingOutside,
    hear: Hearing | None = None, *, as_routed: bool = False,
) -> tuple[TurnSoFar, TurnOutcome]:  # fmt: skip
    """The same, with the turn as it is then."""
    begun = time.perf_counter()
    now = replace(turn, assistant=assistant, revision=revision, run="replay", routed=None,
                  answered=None, spoken=None, encoded=None, delivered=None)  # fmt: skip
    times: list[StageTime] = []

    def took(stage: str, since: float) -> None:
        times.append(StageTime(stage=stage, milliseconds=_since(since)))

    if hear is not None:
        try:
            now = now.with_added("transcribe", await hear(expected_of(now)))
        except FondEchoError as error:
            return now, TurnOutcome(text="", error=str(error), milliseconds=_since(begun))
        took("transcribe", begun)
    if as_routed and turn.routed is not None:
        name = turn.routed.route
        if turn.assistant.route(name) and not assistant.route(name):
            gone = f"there is no route {name!r} here any more"
            return now, TurnOutcome(text=turn.text, error=gone, milliseconds=_since(begun))
        now = now.with_added("route", turn.routed)
    else:
        since = time.perf_counter()
        now = now.with_added("route", understand(now))
        took("route", since)
    since = time.perf_counter()
    parts: list[Reply] = []
    not_run = error_text = ""
    try:
        if not now.inbound.joined:
            parts = [part async for part in answer(ready(now, RoutedTurn), needs)]
    except StageError as error:
        not_run = str(error) if error.code == "not-run" else ""
        error_text = "" if not_run else str(error)
    except FondEchoError as error:
        error_text = str(error)
        parts = [failed(now, error.code)]
    if now.inbound.joined:
        parts = [greeting(now)]
    now = now.with_added("answer", Answered(parts=parts, **needs.led.taken()))
    took("answer", since)
    found = outcome_of(now, not_run, error_text, _since(begun))
    asked = list(needs.called)
    return now, found.model_copy(update={"stages": times, "asked": asked})


def _since(begun: float) -> float:
    return round(1_000 * (time.perf_counter() - begun), 1)


def outcome_of(
    turn: TurnSoFar, not_run: str = "", error: str = "", milliseconds: float = 0.0
) -> TurnOutcome:
    """What a turn came to."""
    parts = turn.answered.final if turn.answered is not None else []
    routed = turn.routed
    return TurnOutcome(
        text=turn.text, route=routed.route if routed else "",
        confidence=round(routed.confidence, 3) if routed else 0.0,
        because=routed.because if routed else "", outcome=routed.outcome if routed else "",
        slots=routed.slots if routed else {},
        written="\n\n".join(part.written for part in parts),
        spoken=" ".join(filter(None, map(spoken_words, parts))),
        choices=[choice.label for part in parts for choice in part.choices],
        error=error, not_run=not_run, milliseconds=milliseconds,
        scores=[
            RouteChance(route=each.route, confidence=round(each.confidence, 3))
            for each in (routed.scores[:SCORES] if routed else [])
        ],
        voice=next((part.voice for part in parts if part.voice), turn.assistant.voice),
        clip=turn.encoded.clip.id if turn.encoded is not None else "",
        verdict=turn.answered.verdict if turn.answered is not None else None,
    )  # fmt: skip


def held_against(
    turn: str, revision: str, before: TurnOutcome, after: TurnOutcome, language: Language
) -> ReplayOut:
    """A turn before and after, with what is different."""
    sentences: list[ComparedSentence] = []
    if before.written != after.written:
        sentences = compared(before.written, after.written, language)
    changed = [name for name in WEIGHED if _worth(before, name) != _worth(after, name)]
    if sentences and says_the_same(sentences):
        changed[changed.index("written")] = "wording"
        # What is spoken is made from what is written, unless it has words of its own.
        if "spoken" in changed and says_the_same(compared(before.spoken, after.spoken, language)):
            changed.remove("spoken")
    return ReplayOut(
        turn=turn, revision=revision, before=before, after=after, changed=changed,
        sentences=[SentenceCompared(**{**vars(each), "marks": list(each.marks)})
                   for each in sentences],
    )  # fmt: skip


def _worth(form: TurnOutcome, name: str) -> Any:
    """A field of an outcome as it is compared: of a verdict, its kind."""
    value = getattr(form, name)
    return value.kind if isinstance(value, AnswerVerdict) else value


def counted_by_verdict(found: Sequence[ReplayOut]) -> list[VerdictCount]:
    """What the free answers of replays are worth, then and now."""
    then, now = (
        Counter(form.verdict.kind for form in forms if form.verdict is not None)
        for forms in ([each.before for each in found], [each.after for each in found])
    )
    kinds = [kind for kind in get_args(VerdictKind) if then[kind] or now[kind]]
    return [VerdictCount(verdict=each, before=then[each], after=now[each]) for each in kinds]
