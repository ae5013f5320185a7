"""The turn as a stage gets it: what the stage needs is there, and its type says so."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass, fields
from typing import ClassVar, TypeVar

from fond_echo.contract.base import Schema
from fond_echo.contract.clip import ClipRef
from fond_echo.turns.errors import StageTooEarly
from fond_echo.turns.needs import Needs
from fond_echo.turns.turn import (
    Answered,
    DecodedClip,
    FetchedSound,
    Routed,
    Spoken,
    TurnSoFar,
)


@dataclass(frozen=True, kw_only=True)
class FetchedTurn(TurnSoFar):
    """Its sound was fetched."""

    NEEDS: ClassVar = ("fetched",)
    fetched: FetchedSound

    @property
    def sound(self) -> ClipRef:
        """Raises StageTooEarly where only files were fetched."""
        if self.fetched.clip is None:
            raise StageTooEarly(f"the turn {self.id} has no sound")
        return self.fetched.clip


@dataclass(frozen=True, kw_only=True)
class DecodedTurn(TurnSoFar):
    """Its sound was decoded."""

    NEEDS: ClassVar = ("decoded",)
    decoded: DecodedClip


@dataclass(frozen=True, kw_only=True)
class RoutedTurn(TurnSoFar):
    """It is known where it goes."""

    NEEDS: ClassVar = ("routed",)
    routed: Routed


@dataclass(frozen=True, kw_only=True)
class AnsweredTurn(TurnSoFar):
    """It has a reply."""

    NEEDS: ClassVar = ("answered",)
    answered: Answered


@dataclass(frozen=True, kw_only=True)
class SpokenTurn(TurnSoFar):
    """Its reply was spoken."""

    NEEDS: ClassVar = ("spoken",)
    spoken: Spoken


Ready = TypeVar("Ready", FetchedTurn, DecodedTurn, RoutedTurn, AnsweredTurn, SpokenTurn)
Added = TypeVar("Added", bound=Schema)


def ready(turn: TurnSoFar, kind: type[Ready]) -> Ready:
    """The turn as one of a kind.

    Raises:
        StageTooEarly: what the kind needs has not been added yet.
    """
    missing = [name for name in kind.NEEDS if getattr(turn, name) is None]
    if missing:
        raise StageTooEarly(f"the turn {turn.id} has no {missing[0]} part yet")
    return kind(**{each.name: getattr(turn, each.name) for each in fields(TurnSoFar)})


def taking(
    kind: type[Ready], stage: Callable[[Ready, Needs], Awaitable[Added]]
) -> Callable[[TurnSoFar, Needs], Awaitable[Added]]:
    """A stage that takes a kind of turn, as one that takes any."""

    async def run(turn: TurnSoFar, needs: Needs) -> Added:
        return await stage(ready(turn, kind), needs)

    return run
