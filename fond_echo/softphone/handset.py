"""A handset: it calls and is called, says things, presses keys, hears what it is told, holds, and
hangs up."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import AsyncIterator
from typing import Any, Literal

import numpy as np

from fond_echo.core.audio.clip import Clip
from fond_echo.core.telephony.media.g711 import RATE, in_law
from fond_echo.core.telephony.media.stream import Identity, Place, Stream
from fond_echo.core.telephony.sip.calls import (
    Account,
    Answered,
    Call,
    Ended,
    Offered,
    Registered,
    Ringing,
    TransferAsked,
)
from fond_echo.core.telephony.sip.endpoint import Endpoint
from fond_echo.core.telephony.sip.registration import Registrar, Registration
from fond_echo.core.telephony.sip.sdp import (
    Agreed,
    Direction,
    Terms,
    agree,
    answer,
    offer,
    read_description,
)
from fond_echo.core.telephony.sip.transaction_layer import Output
from fond_echo.core.telephony.sip.values import Hop, Uri, parse_address, parse_uri
from fond_echo.softphone.hearing import HeardSound, News, Samples
from fond_echo.softphone.impairments import ImpairedPath, Impairments
from fond_echo.softphone.room import Room, Surroundings
from fond_echo.softphone.sockets import CHANCE, open_socket

OnCall = Literal["answer", "reject", "busy", "ring-out", "dead"]

TICK = 0.02
REGISTER_SECONDS, TRANSFER_SECONDS = 10.0, 20.0
KEYS = "0123456789*#ABCD"

QUIET = 60.0
"""RMS in 16 bits: below this nobody speaks."""

REFUSALS = {"reject": 603, "busy": 486}


class Handset:
    """One telephone on loopback. Use `handset()`.

    Args:
        on_call: what it does when it is called: it rings for `after` seconds before.
        impairments: of the way that its sound takes.
        around: what else it hears.

    Attributes:
        rang: somebody's telephone rang for our call.
        ended: how the call ended; None while it has not.
        heard: what was heard since the call was answered, frame by frame, the last five minutes.
        news: wakes whoever waits for sound, or for the call to go on.
        transferred_to: where the other side asked us to call.
    """

    def __init__(
        self, host: str, name: str, *, on_call: OnCall = "answer", after: float = 0.3,
        impairments: Impairments | None = None, around: Surroundings | None = None,
    ) -> None:  # fmt: skip
        self._room = Room(around) if around is not None else None
        self.host, self.name = host, name
        self.on_call, self.after = on_call, after
        self.rang = asyncio.Event()
        self.answered = asyncio.Event()
        self.over = asyncio.Event()
        self._carrying = asyncio.Event()
        self.ended: Ended | None = None
        self.heard = HeardSound()
        self.news = News()
        self.call: Call | None = None
        self.stream: Stream | None = None
        self.transferred_to: Uri | None = None
        self._hop: Hop | None = None
        self._account: Account | None = None
        self.registration: Registration | None = None
        self._endpoint: Endpoint
        self._sip: asyncio.DatagramTransport
        self._rtp: asyncio.DatagramTransport
        self.port = 0
        self._media_port = 0
        self._version = 0
        self._timer: asyncio.TimerHandle | None = None
        self._way = ImpairedPath(impairments or Impairments(), self._send_sound)
        self._tasks: set[asyncio.Task[None]] = set()

    async def open(self) -> None:
        self._sip, self.port = await open_socket(self.host, 0, self._signalled)
        self._rtp, self._media_port = await open_socket(self.host, 0, self._sounded)
        self._endpoint = Endpoint(self.host, self.port, self, CHANCE)
        self._endpoint.inside.may_be_transferred = True
        self._ticking = asyncio.create_task(self._tick())

    async def close(self) -> None:
        await self.hang_up()
        if self.registration is not None and self.registration.state == "registered":
            self._done(self.registration.leave(self._now()))
            await asyncio.sleep(0.02)
        self._ticking.cancel()
        if self._timer is not None:
            self._timer.cancel()
        for task in list(self._tasks):
            task.cancel()
        self._sip.close()
        self._rtp.close()

    async def register(self, carrier: Hop, password: str) -> None:
        """Be reached by our name as a number, through a carrier; and call through it."""
        self._hop, self._account = carrier, Account(self.name, password)
        address = parse_address(f"<sip:{self.name}@{carrier.host}>")
        registrar = Registrar(
            self.name, parse_uri(f"sip:{carrier.host}:{carrier.port}"), address, self._account, 300
        )
        self.registration = Registration(registrar, self._endpoint.transactions)
        self._wake()
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(REGISTER_SECONDS):
                while self.registration.state not in ("registered", "failed"):
                    await self.news.next.wait()

    def describe(self, call: Call, offered: bytes) -> bytes:
        """Our media, to whoever changes theirs."""
        if not offered:
            return offer(self._terms())
        described, agreed = answer(read_description(offered), self._terms())
        if self.stream is not None:
            self.stream.changed(agreed)
        return described

    def _terms(self, direction: Direction = "sendrecv") -> Terms:
        self._version += 1
        return Terms(self.host, self._media_port, 1, version=self._version, direction=direction)

    async def dial(
        self, number: str, *, account: Account | None = None, hop: Hop | None = None
    ) -> None:
        """Call somebody (sip:NUMBER@HOST:PORT, or a number of our carrier); come back when it is
        answered or over."""
        hop = hop or self._hop
        if ":" not in number:
            assert hop is not None, "a number alone needs a carrier"
            number = f"sip:{number}@{hop.host}:{hop.port}"
        caller = parse_address(f'"{self.name}" <sip:{self.name}@{self.host}>')
        self._again()
        self.call, output = self._endpoint.place(
            parse_uri(number), caller, offer(self._terms()), self._now(),
            account=account or self._account, hop=hop,
        )  # fmt: skip
        self._done(output)
        await self.answer_or_end()

    def _again(self) -> None:
        for each in (self.rang, self.answered, self.over):
            each.clear()
        self.ended, self.stream, self.heard = None, None, HeardSound()

    async def answer_or_end(self, seconds: float | None = None) -> bool:
        """Wait until the call is answered or over; whether it was answered."""
        waiting = [asyncio.create_task(each.wait()) for each in (self.answered, self.over)]
        await asyncio.wait(waiting, timeout=seconds, return_when=asyncio.FIRST_COMPLETED)
        for task in waiting:
            task.cancel()
        return self.answered.is_set()

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

    async def hold(self) -> None:
        """Put the other side on hold."""
        await self._change("sendonly")

    async def resume(self) -> None:
        """Talk on."""
        await self._change("sendrecv")

    async def _change(self, direction: Direction) -> None:
        assert self.call is not None
        self._done(
            self._endpoint.inside.change(self.call, offer(self._terms(direction)), self._now())
        )
        await asyncio.sleep(0.1)

    async def listen(self, *, quiet: float = 1.0, longest: float = 20.0) -> Clip:
        """What is said next, until it has been quiet for some seconds, or the call is over."""
        frames: list[Samples] = []
        spoken, still, seen = False, 0, self.heard.count
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(longest):
                while not (self.over.is_set() and seen == self.heard.count):
                    more = self.news.next
                    came = self.heard.since(seen)
                    seen = self.heard.count
                    for frame in came:
                        loud = float(np.sqrt(np.mean(frame.astype(np.float32) ** 2))) > QUIET
                        spoken |= loud
                        still = 0 if loud else still + 1
                    frames += came
                    if spoken and still * TICK >= quiet:
                        break
                    await more.wait()
        whole = np.concatenate(frames) if frames else np.zeros(0, np.int16)
        return Clip(whole.astype(np.float32) / np.float32(32_768), RATE)

    async def hang_up(self) -> None:
        """End the call, where there is one."""
        if self.call is not None and not self.over.is_set():
            self._done(self._endpoint.hang_up(self.call, self._now()))
            await asyncio.sleep(0.05)

    def vanish(self) -> None:
        """Say nothing any more, as a telephone does whose battery is empty."""
        self._sip.close()
        self._rtp.close()

    def _now(self) -> float:
        return asyncio.get_running_loop().time()

    def _signalled(self, data: bytes, place: Place) -> None:
        self._done(self._endpoint.receive(data, Hop(*place), self._now()))

    def _sounded(self, data: bytes, place: Place) -> None:
        if self.stream is not None:
            self.stream.receive(data, place, self._now())

    def _run(self, work: Any) -> None:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def _done(self, output: Output) -> None:
        for data, place in output.send:
            if not self._sip.is_closing():
                self._sip.sendto(data, (place.host, place.port))
        if output.events:
            self.news.tell()
        for event in output.events:
            match event:
                case Ringing():
                    self.rang.set()
                case Offered(call):
                    self._run(self._offered(call))
                case Answered(call) if call is self.call:
                    if self.stream is None:
                        self._carry(agree(read_description(call.remote_sdp), self._terms()))
                    self.answered.set()
                case TransferAsked(call, to):
                    self._run(self._transferred(call, to))
                case Ended(call) if call is self.call:
                    self.ended = event
                    self.over.set()
                case Registered():
                    pass
        self._schedule()

    async def _offered(self, call: Call) -> None:
        """We are called."""
        if self.on_call == "dead":
            return
        if self.call is not None and self.call.state != "ended":
            self._done(self._endpoint.reject(call, 486, self._now()))
            return
        self._again()
        self.call = call
        self._done(self._endpoint.ring(call, self._now()))
        await asyncio.sleep(self.after)
        if call.state == "ended" or self.on_call == "ring-out":
            return
        if self.on_call in REFUSALS:
            self._done(self._endpoint.reject(call, REFUSALS[self.on_call], self._now()))
            return
        described, agreed = answer(read_description(call.remote_sdp), self._terms())
        self._carry(agreed)
        self._done(self._endpoint.accept(call, described, self._now()))

    async def _transferred(self, call: Call, to: Uri) -> None:
        """The other side wants us to call somebody else: we do, and say how it goes."""
        self.transferred_to = to
        caller = parse_address(f"<sip:{self.name}@{self.host}>")
        # Sound of its own: packets of the call before may still be on their way.
        early: list[asyncio.DatagramTransport] = []

        def sounded(data: bytes, place: Place) -> None:
            if early and self._rtp is early[0]:
                self._sounded(data, place)

        rtp, port = await open_socket(self.host, 0, sounded)
        early.append(rtp)
        before, self._media_port = self._media_port, port
        described = offer(self._terms())
        self._media_port = before
        second, output = self._endpoint.place(
            to, caller, described, self._now(), account=self._account, hop=self._hop
        )
        self._done(output)
        self._done(self._endpoint.inside.tell_transfer(call, 100, self._now()))
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(TRANSFER_SECONDS):
                while second.state not in ("answered", "ended"):
                    await self.news.next.wait()
        connected = second.state == "answered"
        self._done(
            self._endpoint.inside.tell_transfer(call, 200 if connected else 486, self._now())
        )
        if not connected:
            rtp.close()
            return
        self.over.clear()
        self._rtp.close()
        self._rtp, self._media_port = rtp, port
        self.call = second
        self._carry(agree(read_description(second.remote_sdp), self._terms()))

    def _carry(self, agreed: Agreed) -> None:
        """Sound goes to and fro from now on."""
        self.stream = Stream(agreed, Identity.chosen(CHANCE))
        self._carrying.set()

    def _schedule(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
        times = [self._endpoint.due]
        if self.registration is not None:
            times.append(self.registration.due)
        due = min((each for each in times if each is not None), default=None)
        if due is not None and not self._sip.is_closing():
            loop = asyncio.get_running_loop()
            self._timer = loop.call_at(max(due, loop.time()), self._wake)

    def _wake(self) -> None:
        output = self._endpoint.wake(self._now())
        if self.registration is not None:
            output.join(self.registration.wake(self._now()))
        self._done(output)

    def _send_sound(self, data: bytes) -> None:
        if self.stream is not None and not self._rtp.is_closing():
            self._rtp.sendto(data, self.stream.place)

    async def _tick(self) -> None:
        due = self._now()
        while True:
            due += TICK
            await asyncio.sleep(max(0.0, due - self._now()))
            if self.stream is None or self.over.is_set() or self._rtp.is_closing():
                self._carrying.clear()
                await self._carrying.wait()
                due = self._now()
                continue
            if self._room is not None:
                self.stream.under = self._room.under
            for data in self.stream.tick():
                self._way.send(data)
            report = self.stream.report(self._now(), time.time())
            if report:
                host, port = self.stream.place
                self._rtp.sendto(report, (host, port + 1))
            frame = self.stream.heard()[0]
            self.heard.append(frame)
            if self._room is not None:
                self._room.heard(frame)
            self.news.tell()


@contextlib.asynccontextmanager
async def handset(
    name: str = "isla", host: str = "127.0.0.1", *, on_call: OnCall = "answer",
    after: float = 0.3, impairments: Impairments | None = None,
    around: Surroundings | None = None,
) -> AsyncIterator[Handset]:  # fmt: skip
    """A handset while this lasts."""
    made = Handset(host, name, on_call=on_call, after=after, impairments=impairments, around=around)
    await made.open()
    try:
        yield made
    finally:
        await made.close()
