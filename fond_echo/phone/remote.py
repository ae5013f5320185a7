"""The rest of the service for calls, where it is in another process: both ends of `Backend`."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Sequence
from typing import Any

from fond_echo.core.telephony.conversation.course import After
from fond_echo.core.telephony.conversation.listening import Frame
from fond_echo.core.telephony.media.g711 import Law
from fond_echo.phone.backend import (
    Backend,
    BackendCall,
    CallEnd,
    CallStart,
    Placing,
    Play,
    Work,
)
from fond_echo.phone.errors import LinkClosed
from fond_echo.phone.link import Handler, Link

KEPT_SECONDS = 60.0
"""A call is known so long after its end."""

ALIVE_SECONDS, STALLED_SECONDS = 1.0, 10.0
"""How often the other end shows that it does something, and after how long it stands still."""

ABOUT_CALLS = ("turn", "guess", "hear", "opening", "record", "over", "ended")
ABOUT_CHANNELS = ("write", "left_behind", "waiting", "due", "prompt", "warm")


class RemoteCall:
    """`BackendCall` at the other end of a link."""

    def __init__(self, link: Link, record: str, plays: dict[str, Play]) -> None:
        self._link, self._record, self._plays = link, record, plays

    async def turn(self, work: Work) -> After | None:
        found: After | None = await self._link.call("turn", self._record, work)
        return found

    async def guess(self, samples: Frame, pause: int) -> bool:
        return bool(await self._link.call("guess", self._record, samples, pause))

    def hear(self, samples: Frame, begins: bool) -> None:
        self._link.tell("hear", self._record, samples, begins)

    async def opening(self, law: Law) -> bytes | str:
        found: bytes | str = await self._link.call("opening", self._record, law)
        return found

    def record(self, theirs: Sequence[Frame], ours: Sequence[Frame]) -> None:
        self._link.tell("record", self._record, theirs, ours)

    def over(self) -> None:
        self._plays.pop(self._record, None)
        self._link.tell("over", self._record)

    async def ended(self, end: CallEnd) -> None:
        # Where the other end is gone, whoever comes after it writes that the call is over.
        with contextlib.suppress(LinkClosed):
            await self._link.call("ended", self._record, end)


class RemoteBackend:
    """`Backend` at the other end of a link.

    Attributes:
        handlers: what the other end calls.
    """

    def __init__(self) -> None:
        self.link = Link({})
        self._plays: dict[str, Play] = {}
        self._alive_at: float | None = None
        self.handlers: dict[str, Handler] = {"play": self._play, "alive": self._alive}

    @property
    def is_stalled(self) -> bool:
        now = asyncio.get_running_loop().time()
        return self._alive_at is not None and now - self._alive_at > STALLED_SECONDS

    def _alive(self) -> None:
        self._alive_at = asyncio.get_running_loop().time()

    def _play(self, record: str, sound: bytes) -> None:
        if (play := self._plays.get(record)) is not None:
            play(sound)

    def call(self, start: CallStart, play: Play) -> RemoteCall:
        self._plays[start.record] = play
        self.link.tell("begin", start)
        return RemoteCall(self.link, start.record, self._plays)

    async def rang(self, start: CallStart, number: str) -> None:
        await self.link.call("rang", start, number)

    async def write(
        self, channel: str, record: str, kind: str, at: float | None, data: dict[str, Any],
        **values: Any,
    ) -> None:  # fmt: skip
        await self.link.call("write", channel, record, kind, at, data, values)

    async def left_behind(self, channel: str) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = await self.link.call("left_behind", channel)
        return found

    async def waiting(self, channel: str) -> tuple[list[str], bool]:
        found: tuple[list[str], bool] = await self.link.call("waiting", channel)
        return found

    async def due(self, channel: str, most: int, minutes_per_day: int) -> list[Placing]:
        found: list[Placing] = await self.link.call("due", channel, most, minutes_per_day)
        return found

    async def prompt(
        self, words: str, voice: str, law: Law, language: str, engines: tuple[str, ...]
    ) -> bytes:
        return bytes(await self.link.call("prompt", words, voice, law, language, engines))

    async def warm(self, channel: str, revision: str) -> None:
        await self.link.call("warm", channel, revision)


class BackendHandlers:
    """Answers a `RemoteBackend` with a backend of this process."""

    def __init__(self, backend: Backend) -> None:
        self._backend = backend
        self._calls: dict[str, BackendCall] = {}
        self.link: Link | None = None

    @property
    def handlers(self) -> dict[str, Handler]:
        """By the names that `RemoteBackend` calls."""
        backend = self._backend
        return {
            "begin": self._begin,
            "rang": backend.rang,
            "write": lambda channel, record, kind, at, data, values: backend.write(
                channel, record, kind, at, data, **values
            ),
            **{name: getattr(backend, name) for name in ABOUT_CHANNELS if name != "write"},
            **{name: self._about_call(name) for name in ABOUT_CALLS if name != "ended"},
            "ended": self._ended,
        }

    def _begin(self, start: CallStart) -> None:
        def play(sound: bytes) -> None:
            if self.link is not None:
                self.link.tell("play", start.record, sound)

        self._calls[start.record] = self._backend.call(start, play)

    def _about_call(self, name: str) -> Handler:
        return lambda record, *arguments: getattr(self._calls[record], name)(*arguments)

    async def _ended(self, record: str, end: CallEnd) -> None:
        await self._calls[record].ended(end)
        # What was said last may still wait for its turn.
        asyncio.get_running_loop().call_later(KEPT_SECONDS, self._calls.pop, record, None)

    async def show_life(self) -> None:
        """Tell the other end again and again that this one does something, until cancelled."""
        while True:
            if self.link is not None:
                self.link.tell("alive")
            await asyncio.sleep(ALIVE_SECONDS)

    def gone(self) -> None:
        """The other process is gone: nobody hears an answer any more."""
        for call in self._calls.values():
            call.over()
