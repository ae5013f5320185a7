"""What calls need of the rest of the service: turns, prompts, records. It may be in another
process: the sound of a call never waits for it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Literal, Protocol

from fond_echo.contract.call import CallIn
from fond_echo.core.telephony.conversation.course import After
from fond_echo.core.telephony.conversation.listening import Frame
from fond_echo.core.telephony.media.g711 import Law

Play = Callable[[bytes], None]
"""Plays a part of an answer: bytes of the call's law, 8,000 a second."""


@dataclass(frozen=True)
class CallStart:
    """A call that begins, as its turns need to know it.

    Attributes:
        record: the id of its record, and the call's name on both sides.
        contact: the number of the other side.
        conversation: where its turns stand.
        recorded: whether its sound is kept.
        order: what was asked for, of a call that we placed.
        dialed: the number that was called.
    """

    record: str
    channel: str
    contact: str
    conversation: str
    recorded: bool = False
    order: CallIn | None = None
    dialed: str = ""


@dataclass(frozen=True)
class Work:
    """Something that becomes a turn.

    Attributes:
        kind: the greeting, something said, keys pressed, or words of ours.
        law: what the answer is played in.
        at: seconds from the call's answer.
        samples: what was said, at 8 kHz, up to the pause of that number.
        text: the keys, or our words.
    """

    kind: Literal["greet", "hear", "press", "say"]
    law: Law
    at: float
    samples: Frame | None = None
    pause: int = 0
    text: str = ""


@dataclass(frozen=True)
class Placing:
    """A call that is to be placed now, and what came of earlier tries."""

    record: str
    number: str
    caller: str
    order: CallIn
    attempts: tuple[Any, ...] = ()


@dataclass(frozen=True)
class CallEnd:
    """How and when a call ended: `about` stands with the event, `measured` too and in the record;
    `values` are further columns of the record."""

    about: dict[str, Any]
    ended_at: datetime
    at: float | None = None
    measured: dict[str, Any] = field(default_factory=dict)
    values: dict[str, Any] = field(default_factory=dict)


class BackendCall(Protocol):
    """The rest of the service, as one call needs it."""

    async def turn(self, work: Work) -> After | None:
        """Make a turn of something, and carry it to its end; None where the other side is not to
        be answered."""
        ...

    async def guess(self, samples: Frame, pause: int) -> bool:
        """Begin to read what was said up to a pause; whether it is a whole that was expected."""
        ...

    def hear(self, samples: Frame, begins: bool) -> None:
        """What is being said, as it comes: what follows the last, or the beginning."""
        ...

    async def opening(self, law: Law) -> bytes | str:
        """What is said first in a call that we placed: sound, or words. Raises FondEchoError."""
        ...

    def record(self, theirs: Sequence[Frame], ours: Sequence[Frame]) -> None:
        """Keep the sound of both sides: as many frames of 20 ms each."""
        ...

    def over(self) -> None:
        """Nobody hears an answer any more."""
        ...

    async def ended(self, end: CallEnd) -> None:
        """Write down how it ended, with its recording; waits for a database that is away."""
        ...


class Backend(Protocol):
    """The rest of the service, as the phone channels of a process need it."""

    @property
    def is_stalled(self) -> bool:
        """Whether it has not shown for a while that it does anything: no call is let in then."""
        ...

    def call(self, start: CallStart, play: Play) -> BackendCall: ...

    async def rang(self, start: CallStart, number: str) -> None:
        """A call came in, to a number."""
        ...

    async def write(
        self, channel: str, record: str, kind: str, at: float | None, data: dict[str, Any],
        **values: Any,
    ) -> None:  # fmt: skip
        """Write down what happened in a call, and what is known of it now.

        Args:
            at: seconds from the answer; None before there was one.
        """
        ...

    async def left_behind(self, channel: str) -> list[dict[str, Any]]:
        """Mark calls that were under way when their process stopped as over; gives their
        dialogs."""
        ...

    async def waiting(self, channel: str) -> tuple[list[str], bool]:
        """Calls that somebody wants to be over, and whether there are any to be placed now."""
        ...

    async def due(self, channel: str, most: int, minutes_per_day: int) -> list[Placing]:
        """Calls to be placed now; none where the day's minutes are used up."""
        ...

    async def prompt(
        self, words: str, voice: str, law: Law, language: str, engines: tuple[str, ...]
    ) -> bytes:
        """Words as sound, spoken by engines or, without any, by us. Raises FondEchoError."""
        ...

    async def warm(self, channel: str, revision: str) -> None:
        """Make what the first call with a revision would wait for."""
        ...
