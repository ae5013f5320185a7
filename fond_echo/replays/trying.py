"""Trying an assistant: a turn that sends nothing outside. Nothing is stored, nothing is
delivered, and business logic is asked only where its route says that asking is safe."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Protocol

from fond_echo.answers.sentences import failed
from fond_echo.contract.base import new_id
from fond_echo.contract.channel import Inbound
from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.reply import Reply
from fond_echo.contract.turn import Heard
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.assistant import AssistantFile
from fond_echo.replays.nothing_outside import NothingOutside
from fond_echo.stages.answer import answer
from fond_echo.stages.route import understand
from fond_echo.stages.speak import spoken_words
from fond_echo.turns.closing import closing_of
from fond_echo.turns.expected import expected_of
from fond_echo.turns.ports import AnswererPort, HelperPort, LogicPort
from fond_echo.turns.ready import RoutedTurn, ready
from fond_echo.turns.state import ConversationState
from fond_echo.turns.turn import Answered, Routed, TurnSoFar

Hearing = Callable[[Expected], Awaitable[Heard]]


@dataclass(frozen=True)
class Outcome:
    """What a try gave; `heard` where it was a recording."""

    heard: Heard | None
    routed: Routed
    replies: list[Reply]
    spoken: str
    state: ConversationState
    not_run: str = ""
    called: list[EngineAsked] = field(default_factory=list)


class Engines(Protocol):
    """The engines that are asked for a try."""

    @property
    def answerer(self) -> AnswererPort: ...
    @property
    def helper(self) -> HelperPort: ...


async def try_out(
    assistant: AssistantFile,
    revision: str,
    said: Inbound,
    state: ConversationState,
    now: datetime,
    logic: LogicPort,
    hear: Hearing | None = None,
    engines: Engines | None = None,
) -> Outcome:
    """Take a turn with an assistant, as far as it goes without sending anything outside.

    Args:
        hear: hears the recording that was said, against what is expected here.
        engines: are asked for real; without them free answers are not made.
    """
    turn = TurnSoFar(
        id=new_id(),
        run_id=new_id(),
        run="try",
        number=1,
        channel="try",
        conversation_id="try",
        contact_id="try",
        contact_name=said.name,
        inbound=said,
        assistant=assistant,
        revision=revision,
        clock=now,
        seed=1,
        state=state,
    )
    heard = await hear(expected_of(turn)) if hear is not None else None
    if heard is not None:
        turn = turn.with_added("transcribe", heard)
    routed = understand(turn)
    turn = turn.with_added("route", routed)
    needs = NothingOutside(logic)
    if engines is not None:
        needs.answerer, needs.helper = engines.answerer, engines.helper
    not_run = ""
    try:
        replies = [part async for part in answer(ready(turn, RoutedTurn), needs)]
    except FondEchoError as error:
        replies, not_run = [], str(error)
        if error.code != "not-run":
            replies = [failed(turn, error.code)]
    turn = turn.with_added("answer", Answered(parts=replies, **needs.led.taken()))
    spoken = " ".join(filter(None, map(spoken_words, replies)))
    return Outcome(
        heard, turn.routed or routed, replies, spoken, closing_of(turn).state, not_run, needs.called
    )
