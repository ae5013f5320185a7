"""What a turn needs that leaves nothing outside: no message goes out, nothing is stored, no engine
is asked; business logic only where that is safe. Tries, replays and cases are made with it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from fond_echo.contract.engine import EngineAsked
from fond_echo.turns.ports import Abilities, KeptAnswers, LogicPort


@dataclass(frozen=True)
class NoChannel:
    """A channel that takes everything and sends nothing."""

    abilities: Abilities = field(default_factory=lambda: Abilities(frozenset()))


@dataclass
class NothingOutside:
    """The part of `Needs` that `answer` uses.

    Attributes:
        logic: asked where that is safe.
        kept: answers that were given before; they are used first.
        called: the functions that were asked.
        named: the business logic that was wanted.
    """

    logic: LogicPort
    kept: KeptAnswers | None = None
    called: list[EngineAsked] = field(default_factory=list)
    named: list[str] = field(default_factory=list)
    channel: NoChannel = field(default_factory=NoChannel)
    clips: None = None
    """Files are named, not stored."""
    answerer: None = None
    helper: None = None
    sentence: None = None
    once: None = None
    late: None = None
    """Nobody waits elsewhere: an answer that comes late is waited for here."""
    asked: Callable[[], list[EngineAsked]] = list
