"""A handset: it calls a number, says things, presses keys, hears what it is told, and hangs up."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import time
from collections.abc import AsyncIterator
from typing import Any

import numpy as np
import numpy.typing as npt

from fond_echo.core.audio.clip import Clip
from fond_echo.core.telephony.calls import Account, Answered, Call, Ended, Offered, Ringing
from fond_echo.core.telephony.endpoint import Endpoint
from fond_echo.core.telephony.exchange import Output
from fond_echo.core.telephony.g711 import RATE, in_law
from fond_echo.core.telephony.sdp import Terms, agree, answer, offer, read_description
from fond_echo.core.telephony.stream import Identity, Place, Stream
from fond_echo.core.telephony.values import Hop, parse_address, parse_uri

Samples = npt.NDArray[np.int16]

TICK = 0.02
QUIET = 60.0
"""RMS in 16 bits: below this nobody speaks."""


class _Socket(asyncio.DatagramProtocol):
    def __init__(self, received: Any) -> None:
        self._received = received

    def datagram_received(self, data: bytes, addr: tuple[Any, ...]) -> None:
        self._received(data, (str(addr[0]), int(addr[1])))


class Handset:
    """One telephone on loopback. Use `handset()`.

    Attributes:
        rang: somebody's telephone rang for our call.
        ended: how the call ended; None while it has not.
        heard: everything that was heard since the call was answered, frame by frame.
    """

    def __init__(self, host: str, name: str) -> None:
        self.host, self.name = host, name
        self.rang = asyncio.Event()
        self.answered = asyncio.Event()
        self.over = asyncio.Event()
        self.ended: Ended | None = None
        self.offered: asyncio.Queue[Call] = asyncio.Queue()
        self.heard: list[Samples] = []
        self.call: Call | None = None
        self.stream: Stream | None = None
        self._endpoint: Endpoint
        self._sip: asyncio.DatagramTransport
        self._rtp: asyncio.DatagramTransport
        self._media_port = 0
        self._timer: asyncio.TimerHandle | None = None

    async def open(self) -> None:
        loop = asyncio.get_running_loop()
        self._sip, _ = await loop.create_datagram_endpoint(
            lambda: _Socket(self._signalled), local_addr=(self.host, 0)
        )
        self._rtp, _ = await loop.create_datagram_endpoint(
            lambda: _Socket(self._sounded), local_addr=(self.host, 0)
        )
        self._media_port = self._rtp.get_extra_info("sockname")[1]
        port = self._sip.get_extra_info("sockname")[1]
        self._endpoint = Endpoint(self.host, port, self)
        self._ticking = asyncio.create_task(self._tick())

    async def close(self) -> None:
        await self.hang_up()
        self._ticking.cancel()
        if self._timer is not None:
            self._timer.cancel()
        self._sip.close()
        self._rtp.close()

    def describe(self, call: Call, offered: bytes) -> bytes:
        """Our media, to whoever changes theirs."""
        described, agreed = answer(read_description(offered), self._terms())
        if self.stream is not None:
            self.stream.changed(agreed)
        return described

    def _terms(self) -> Terms:
        return Terms(self.host, self._media_port, secrets.randbits(31))

    async def dial(
        self, number: str, *, account: Account | None = None, hop: Hop | None = None
    ) -> None:
        """Call somebody (sip:NUMBER@HOST:PORT); come back when it is answered or over."""
        caller = parse_address(f'"{self.name}" <sip:{self.name}@{self.host}>')
        self.call, output = self._endpoint.place(
            parse_uri(number), caller, offer(self._terms()), self._now(), account=account, hop=hop
        )
        self._done(output)
        waiting = [asyncio.create_task(each.wait()) for each in (self.answered, self.over)]
        await asyncio.wait(waiting, return_when=asyncio.FIRST_COMPLETED)
        for task in waiting:
            task.cancel()

    async def say(self, clip: Clip) -> None:
        """Say something; come back when it was said."""
        assert self.stream is not None
        self.stream.play(in_law(clip, self.stream.law))
        seconds = clip.seconds
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(self.over.wait(), seconds + 2 * TICK)

    def press(self, keys: str) -> None:
        """Press keys, one after the other."""
        assert self.stream is not None
        for key in keys:
            self.stream.press(key)

    async def listen(self, *, quiet: float = 1.0, longest: float = 20.0) -> Clip:
        """What is said next, until it has been quiet for some seconds, or the call is over."""
        start = len(self.heard)
        spoken = False
        still = 0
        deadline = self._now() + longest
        seen = start
        while self._now() < deadline and not (self.over.is_set() and seen == len(self.heard)):
            await asyncio.sleep(TICK)
            for frame in self.heard[seen:]:
                loud = float(np.sqrt(np.mean(frame.astype(np.float32) ** 2))) > QUIET
                spoken |= loud
                still = 0 if loud else still + 1
            seen = len(self.heard)
            if spoken and still * TICK >= quiet:
                break
        frames = self.heard[start:seen]
        whole = np.concatenate(frames) if frames else np.zeros(0, np.int16)
        return Clip(whole.astype(np.float32) / np.float32(32_768), RATE)

    async def hang_up(self) -> None:
        """End the call, where there is one."""
        if self.call is not None and not self.over.is_set():
            self._done(self._endpoint.hang_up(self.call, self._now()))
            await asyncio.sleep(0.05)

    def _now(self) -> float:
        return asyncio.get_running_loop().time()

    def _signalled(self, data: bytes, place: Place) -> None:
        self._done(self._endpoint.receive(data, Hop(*place), self._now()))

    def _sounded(self, data: bytes, place: Place) -> None:
        if self.stream is not None:
            self.stream.receive(data, place, self._now())

    def _done(self, output: Output) -> None:
        for data, place in output.send:
            if not self._sip.is_closing():
                self._sip.sendto(data, (place.host, place.port))
        for event in output.events:
            match event:
                case Ringing():
                    self.rang.set()
                case Answered(call):
                    agreed = agree(read_description(call.theirs), self._terms())
                    self.stream = Stream(agreed, Identity.chosen())
                    self.answered.set()
                case Offered(call):
                    self.call = call
                    self.offered.put_nowait(call)
                case Ended():
                    self.ended = event
                    self.over.set()
        if self._timer is not None:
            self._timer.cancel()
        due = self._endpoint.due
        if due is not None and not self._sip.is_closing():
            loop = asyncio.get_running_loop()
            self._timer = loop.call_at(
                max(due, loop.time()), lambda: self._done(self._endpoint.wake(self._now()))
            )

    async def _tick(self) -> None:
        due = self._now()
        while True:
            due += TICK
            await asyncio.sleep(max(0.0, due - self._now()))
            if self.stream is None or self.over.is_set():
                continue
            for data in self.stream.tick():
                if not self._rtp.is_closing():
                    self._rtp.sendto(data, self.stream.place)
            report = self.stream.report(self._now(), time.time())
            if report:
                host, port = self.stream.place
                self._rtp.sendto(report, (host, port + 1))
            self.heard.append(self.stream.heard()[0])


@contextlib.asynccontextmanager
async def handset(name: str = "isla", host: str = "127.0.0.1") -> AsyncIterator[Handset]:
    """A handset while this lasts."""
    made = Handset(host, name)
    await made.open()
    try:
        yield made
    finally:
        await made.close()
