"""What a turn needs that leaves nothing outside: no message goes out, nothing is stored, no engine
is asked unless one is given; business logic only where that is safe. Tries, replays and cases are
made with it."""

from __future__ import annotations

from collections.abc import AsyncIterator
from dataclasses import dataclass, field
from typing import Any

from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.reply import Reply
from fond_echo.documents.services import LogicService
from fond_echo.stages.errors import NotRun
from fond_echo.turns.needs import Led
from fond_echo.turns.ports import (
    Abilities,
    AnswererPort,
    HelperPort,
    KeptAnswers,
    Listener,
    LogicPort,
    Once,
)


@dataclass(frozen=True)
class NoChannel:
    """A channel that takes everything and sends nothing."""

    abilities: Abilities = field(default_factory=lambda: Abilities(frozenset()))


@dataclass
class NothingOutside:
    """What answering needs (`AnswerNeeds`), with nothing outside.

    Attributes:
        logic: asked where that is safe.
        kept: answers that were given before; they are used first.
        called: the functions that were asked.
        led: where an engine led the turn.
        named: the business logic that was wanted.
        answerer, helper: engines that are asked for real.
    """

    logic: LogicPort
    kept: KeptAnswers | None = None
    called: list[EngineAsked] = field(default_factory=list)
    led: Led = field(default_factory=Led)
    named: list[str] = field(default_factory=list)
    channel: NoChannel = field(default_factory=NoChannel)
    clips: None = None
    """Files are named, not stored."""
    answerer: AnswererPort | None = None
    helper: HelperPort | None = None
    sentence: None = None
    once: None = None
    late: None = None
    """Nobody waits elsewhere: an answer that comes late is waited for here."""


class NoLogic:
    """Business logic (`LogicPort`) where none is asked.

    Args:
        remedy: what whoever wants its answer can do.
    """

    def __init__(self, remedy: str = "keep its answer in the file, under logic:") -> None:
        self._remedy = remedy
        self.exchanges: list[Any] = []

    async def ask(
        self, service: LogicService, request: LogicRequest, *, safe: bool = False,
        listener: Listener | None = None, once: Once | None = None,
    ) -> AsyncIterator[Reply]:  # fmt: skip
        """Raises NotRun."""
        what = f"business logic is not asked here: {request.action} {request.slots or ''}".strip()
        raise NotRun(what, remedy=self._remedy)
        yield
