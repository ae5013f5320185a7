"""The carrier on its socket: its switch, its rooms, and numbers that answer by themselves."""

from __future__ import annotations

import asyncio
import contextlib
import random
from collections.abc import AsyncIterator, Mapping, Sequence

from fond_echo.core.audio.clip import Clip
from fond_echo.core.telephony.sip.values import Hop, Uri, parse_uri
from fond_echo.softphone.handset import Handset, OnCall
from fond_echo.softphone.sockets import open_socket
from fond_echo.standins.carrier.rooms import Rooms, rooms
from fond_echo.standins.carrier.switch import Switch

MAX_AUTOMATIC = 30.0


class Carrier:
    """A carrier. Use `carrier()`.

    Attributes:
        lose: the share of its signalling that never arrives; `delay` how much later it does.
    """

    def __init__(self, host: str, passwords: Mapping[str, str], there: Rooms) -> None:
        self.host, self.rooms = host, there
        self.lose, self.delay = 0.0, 0.0
        self.switch: Switch
        self._passwords = passwords
        self._udp: asyncio.DatagramTransport
        self._chance = random.Random(1)
        self.automatic: dict[str, Handset] = {}
        self._tasks: set[asyncio.Task[None]] = set()

    @property
    def hop(self) -> Hop:
        """Where it is reached."""
        return Hop(self.host, self.switch.port)

    async def open(self, port: int) -> None:
        self._udp, port = await open_socket(self.host, port, self._received)
        self.switch = Switch(self.host, port, self._passwords)

    async def close(self) -> None:
        for each in self.automatic.values():
            await each.close()
        for task in list(self._tasks):
            task.cancel()
        self._udp.close()

    def room(self, name: str) -> None:
        """Open a room under a number."""
        self.switch.fixed[name] = self.rooms.uri(name)

    async def answers(self, number: str, what: OnCall, *, says: Clip | None = None) -> Handset:
        """Let a number answer by itself; with `says`, like an answering machine."""
        made = Handset(self.host, number, on_call=what)
        await made.open()
        self.automatic[number] = made
        self.switch.fixed[number] = made_uri(made)
        if says is not None:
            task = asyncio.create_task(_greet(made, says))
            self._tasks.add(task)
        return made

    def _received(self, data: bytes, source: tuple[str, int]) -> None:
        loop = asyncio.get_running_loop()
        if self._chance.random() < self.lose:
            return
        for sent, to in self.switch.receive(data, Hop(*source), loop.time()):
            if self._chance.random() < self.lose:
                continue
            if self.delay:
                loop.call_later(self.delay, self._send, sent, to)
            else:
                self._send(sent, to)

    def _send(self, data: bytes, to: Hop) -> None:
        if not self._udp.is_closing():
            self._udp.sendto(data, (to.host, to.port))


def made_uri(made: Handset) -> Uri:
    """Where a handset is called without a carrier."""
    return parse_uri(f"sip:{made.name}@{made.host}:{made.port}")


async def _greet(made: Handset, says: Clip) -> None:
    """Whenever it is called: its greeting, and then it listens."""
    while True:
        await made.answered.wait()
        await made.say(says)
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(made.over.wait(), MAX_AUTOMATIC)
        await made.hang_up()
        made.answered.clear()


@contextlib.asynccontextmanager
async def carrier(
    passwords: Mapping[str, str], *, port: int = 0, host: str = "127.0.0.1",
    room_names: Sequence[str] = (),
) -> AsyncIterator[Carrier]:  # fmt: skip
    """A carrier while this lasts.

    Args:
        passwords: of its numbers.
    """
    async with rooms(host) as there:
        made = Carrier(host, passwords, there)
        await made.open(port)
        for name in room_names:
            made.room(name)
        try:
            yield made
        finally:
            await made.close()
