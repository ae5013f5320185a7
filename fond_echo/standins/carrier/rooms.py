"""Rooms of the carrier: whoever calls a room's number is in it, and all hear one another."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator

import numpy as np

from fond_echo.core.telephony.errors import TelephonyError
from fond_echo.core.telephony.media.g711 import encoded
from fond_echo.core.telephony.media.jitter import FRAME, Frame
from fond_echo.core.telephony.media.stream import Identity, Place, Stream
from fond_echo.core.telephony.sip.calls import Answered, Call, Ended, Offered
from fond_echo.core.telephony.sip.endpoint import Endpoint
from fond_echo.core.telephony.sip.sdp import Terms, answer, read_description
from fond_echo.core.telephony.sip.transaction_layer import Output
from fond_echo.core.telephony.sip.values import Hop, Uri, parse_uri
from fond_echo.softphone.sockets import CHANCE, open_socket

TICK = 0.02


class Party:
    """Somebody in a room."""

    def __init__(self, call: Call, room: str, rtp: asyncio.DatagramTransport) -> None:
        self.call, self.room, self.rtp = call, room, rtp
        self.stream: Stream | None = None
        self.last: Frame = np.zeros(FRAME, np.int16)


class Rooms:
    """All rooms of a carrier. Use `rooms()`.

    Attributes:
        visits: who was in which room, in order, for whoever looks later.
    """

    def __init__(self, host: str) -> None:
        self.host = host
        self.port = 0
        self.parties: dict[str, Party] = {}
        self.visits: list[tuple[str, str]] = []
        self._called = asyncio.Event()
        self._endpoint: Endpoint
        self._sip: asyncio.DatagramTransport
        self._timer: asyncio.TimerHandle | None = None
        self._tasks: set[asyncio.Task[None]] = set()

    def uri(self, room: str) -> Uri:
        """Where a room is called."""
        return parse_uri(f"sip:{room}@{self.host}:{self.port}")

    async def open(self) -> None:
        self._sip, self.port = await open_socket(self.host, 0, self._signalled)
        self._endpoint = Endpoint(self.host, self.port, self, CHANCE)
        self._ticking = asyncio.create_task(self._tick())

    def close(self) -> None:
        self._ticking.cancel()
        for party in self.parties.values():
            party.rtp.close()
        if self._timer is not None:
            self._timer.cancel()
        self._sip.close()

    def describe(self, call: Call, offered: bytes) -> bytes:
        """Our media, to whoever changes theirs."""
        party = self.parties[call.id]
        port = party.rtp.get_extra_info("sockname")[1]
        described, agreed = answer(read_description(offered), Terms(self.host, port, 1))
        if party.stream is not None:
            party.stream.changed(agreed)
        return described

    def _signalled(self, data: bytes, place: Place) -> None:
        loop = asyncio.get_running_loop()
        self._done(self._endpoint.receive(data, Hop(*place), loop.time()))

    def _done(self, output: Output) -> None:
        for data, place in output.send:
            self._sip.sendto(data, (place.host, place.port))
        for event in output.events:
            match event:
                case Offered(call):
                    task = asyncio.create_task(self._offered(call))
                    self._tasks.add(task)
                    task.add_done_callback(self._tasks.discard)
                case Answered(call) if call.id in self.parties:
                    self.visits.append((call.number, call.caller))
                case Ended(call):
                    party = self.parties.pop(call.id, None)
                    if party is not None:
                        party.rtp.close()
        loop = asyncio.get_running_loop()
        if self._timer is not None:
            self._timer.cancel()
        if (due := self._endpoint.due) is not None:
            self._timer = loop.call_at(
                max(due, loop.time()), lambda: self._done(self._endpoint.wake(loop.time()))
            )

    async def _offered(self, call: Call) -> None:
        loop = asyncio.get_running_loop()

        def sounded(data: bytes, place: Place) -> None:
            party = self.parties.get(call.id)
            if party is not None and party.stream is not None:
                party.stream.receive(data, place, loop.time())

        rtp, port = await open_socket(self.host, 0, sounded)
        try:
            described, agreed = answer(read_description(call.remote_sdp), Terms(self.host, port, 1))
        except TelephonyError:
            rtp.close()
            self._done(self._endpoint.reject(call, 488, loop.time()))
            return
        party = Party(call, call.number, rtp)
        party.stream = Stream(agreed, Identity.chosen(CHANCE))
        self.parties[call.id] = party
        self._called.set()
        self._done(self._endpoint.accept(call, described, loop.time()))

    async def _tick(self) -> None:
        """Every 20 ms everybody hears the sum of all others in their room."""
        loop = asyncio.get_running_loop()
        due = loop.time()
        while True:
            due += TICK
            await asyncio.sleep(max(0.0, due - loop.time()))
            if not self.parties:
                self._called.clear()
                await self._called.wait()
                due = loop.time()
            there = [party for party in self.parties.values() if party.stream is not None]
            for party in there:
                assert party.stream is not None
                party.last = party.stream.heard()[0]
            for party in there:
                assert party.stream is not None
                mixed = np.zeros(FRAME, np.int32)
                for other in there:
                    if other is not party and other.room == party.room:
                        mixed += other.last
                sound = np.clip(mixed, -32_768, 32_767).astype(np.int16)
                party.stream.play(encoded(sound, party.stream.law))
                for data in party.stream.tick():
                    party.rtp.sendto(data, party.stream.place)


@contextlib.asynccontextmanager
async def rooms(host: str = "127.0.0.1") -> AsyncIterator[Rooms]:
    """The rooms while this lasts."""
    made = Rooms(host)
    await made.open()
    try:
        yield made
    finally:
        made.close()
