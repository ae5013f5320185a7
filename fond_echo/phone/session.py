"""One call with an assistant: its media and its course tied to turns."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from random import SystemRandom
from typing import Any

import structlog

from fond_echo.contract.base import new_id
from fond_echo.core.errors import FondEchoError
from fond_echo.core.telephony.conversation.course import (
    Action,
    Beep,
    CallCourse,
    Greet,
    HangUp,
    Note,
    Open,
    Repeat,
    Say,
    SoundWaiting,
    Transfer,
)
from fond_echo.core.telephony.conversation.turn_taking import (
    Press,
    SpeculativeEndpoint,
    StopPlayback,
    Understand,
)
from fond_echo.core.telephony.media.g711 import decoded, in_law
from fond_echo.core.telephony.media.jitter import Frame
from fond_echo.core.telephony.media.quality import Quality
from fond_echo.core.telephony.media.stream import Identity, Place, Stream
from fond_echo.core.telephony.media.tones import beep, waiting
from fond_echo.core.telephony.sip.calls import Call
from fond_echo.core.telephony.sip.sdp import Agreed
from fond_echo.documents.call_handling import Speaking, policy_of
from fond_echo.documents.phone import CallHandling
from fond_echo.phone.backend import Backend, BackendCall, CallStart, Work
from fond_echo.phone.media import MediaSockets
from fond_echo.phone.prompts import Prompts
from fond_echo.phone.roles import CallContext, Carrier

log = structlog.get_logger()

CHANCE = SystemRandom()

HEARD_EVERY = 5
"""Frames after which what is being said is handed on, where it is heard while it is spoken."""

RECORDED_AT_ONCE = 25
"""Frames that are handed on to be recorded: half a second."""


class Session:
    """A call from its answer to its end.

    Args:
        agreed: media; None while the other side has not said what it takes.
        speaking: the assistant's voice, for words that belong to no turn, and its greeting.
    """

    def __init__(
        self, call: Call, context: CallContext, channel: str, agreed: Agreed | None,
        sockets: MediaSockets, backend: Backend, prompts: Prompts, handling: CallHandling,
        speaking: Speaking, carrier: Carrier,
    ) -> None:  # fmt: skip
        self.call, self.context, self.sockets = call, context, sockets
        self.agreed = agreed is not None
        self.stream = Stream(
            agreed or Agreed.none(), Identity.chosen(CHANCE), call.hop.host,
            any_source=carrier.any_source,
        )  # fmt: skip
        self.begun_at = 0.0
        self.start = CallStart(
            context.record, channel, (call.caller if call.incoming else call.number) or "unknown",
            f"call-{new_id()}", handling.record, context.order, call.number,
        )  # fmt: skip
        self._prompts, self._handling, self._speaking = prompts, handling, speaking
        self._words = speaking.words(handling)
        self._carrier = carrier
        self.backend: BackendCall = backend.call(self.start, self._aloud)
        order = context.order
        self.course = CallCourse(
            policy_of(handling, len(self._words.reminders)),
            self._words,
            vanish_seconds=handling.silence_seconds, placed=order is not None,
            leave_a_message=order is None or order.on_answering_machine != "hang-up",
        )  # fmt: skip
        self._both: tuple[list[Frame], list[Frame]] | None = ([], []) if handling.record else None
        self._greeting, self._greeting_played = b"", False
        self._greeted, self._hushed = False, False
        self._ticks = 0
        self._doing: asyncio.Task[None] | None = None
        self._tasks: set[asyncio.Task[None]] = set()
        self._one = asyncio.Lock()

    @property
    def over(self) -> bool:
        return self.call.state == "ended"

    def begin(self, now: float) -> None:
        """The other side is there: greet, or find out who it is."""
        self.begun_at = self.stream.heard_at = now
        # The course begins first: what is played from here on may be interrupted.
        first = self.course.answered(now)
        if self.context.order is None:
            self._play_ready()
        self._act(first)

    def _play_ready(self) -> None:
        """Say at once what is always said first, where it was rendered before."""
        said = [self._words.recorded] if self._handling.record else []
        words = [each for each in (*said, self._speaking.greeting) if each]
        speaking = self._speaking
        how = speaking.voice, self.stream.law, speaking.language, speaking.engines
        ready = [self._prompts.ready(each, *how) for each in words]
        if self._speaking.greeting and all(ready):
            self._keep_greeting(ready[-1])
            self._greeting_played = True
            self._play(b"".join(ready))

    def tick(self, now: float, wall: float) -> None:
        """20 ms have passed."""
        stream = self.stream
        for data in stream.tick():
            self.sockets.send(data, stream.place)
        report = stream.report(now, wall)
        if report:
            self.sockets.send_report(report, stream.place)
        frame, keys = stream.heard()
        if self._both is not None and self.begun_at:
            self._record(frame)
        if stream.agreed.direction not in ("sendrecv", "recvonly"):
            # Nothing should come: it is on hold.
            stream.heard_at = now
        self._act(
            self.course.frame(
                frame, keys, now, playing=stream.playing, busy=self._busy,
                heard_at=stream.heard_at or now, sent=decoded(stream.said, stream.law),
            )
        )  # fmt: skip
        self._ticks += 1
        if self._speaking.live and self._ticks % HEARD_EVERY == 0:
            fresh = self.course.fresh()
            if fresh is not None:
                self.backend.hear(*fresh)

    def _record(self, frame: Frame | None) -> None:
        """Take down 20 ms of both sides; None: hand on what is left."""
        if self._both is None:
            return
        theirs, ours = self._both
        if frame is not None:
            theirs.append(frame)
            ours.append(decoded(self.stream.said, self.stream.law))
        if theirs and (frame is None or len(theirs) >= RECORDED_AT_ONCE):
            self._both = ([], [])
            self.backend.record(theirs, ours)

    def received(self, data: bytes, place: Place, now: float) -> None:
        key = self.stream.receive(data, place, now)
        if key:
            self.key(key, now)

    def key(self, key: str, now: float) -> None:
        """A key, however it came."""
        self._act(self.course.key(key, now))

    def transferred(self, status: int) -> None:
        """What became of a transfer."""
        self._act(self.course.transferred(status))

    async def end(self) -> Quality | None:
        """The call is over; gives how it sounded, where anything was heard."""
        self.course.over()
        self.sockets.close()
        self._record(None)
        self.backend.over()
        return self.stream.quality()

    def _act(self, actions: list[Action]) -> None:
        for action in actions:
            match action:
                case StopPlayback():
                    if self.stream.playing:
                        self._tell("barge-in")
                    self.stream.hush()
                    self._hushed = True
                case SpeculativeEndpoint(samples, pause):
                    self._run(self._guess(samples, pause))
                case Understand(samples, pause):
                    self._do(self._turn(self._work("hear", samples=samples, pause=pause)))
                case Press(keys):
                    self._do(self._turn(self._work("press", text=keys)))
                case Say(words):
                    self._do(self._say(words))
                case Greet():
                    self._do(self._greet())
                case Open():
                    self._do(self._open())
                case Repeat():
                    self._play(self._greeting)
                    self.course.speaks(self._now())
                case Beep():
                    self._play(in_law(beep(), self.stream.law))
                case SoundWaiting():
                    self._play(in_law(waiting(), self.stream.law))
                case Transfer(to):
                    if not self._carrier.transfer(self, to):
                        self._act(self.course.transferred(0))
                case HangUp(cause):
                    self._carrier.hang_up(self, cause)
                case Note(kind, data):
                    self._tell(kind, **data)

    def _tell(self, kind: str, **data: Any) -> None:
        self._run(self._carrier.tell(self, kind, **data))

    def _do(self, work: Coroutine[Any, Any, None]) -> None:
        self._doing = self._run(self._guarded(work))

    def _run(self, work: Coroutine[Any, Any, None]) -> asyncio.Task[None]:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._finished)
        return task

    def _finished(self, task: asyncio.Task[None]) -> None:
        self._tasks.discard(task)
        if not task.cancelled() and (error := task.exception()) is not None:
            log.error("work of a call broke", call=self.context.record, exc_info=error)

    async def _guarded(self, work: Coroutine[Any, Any, None]) -> None:
        # One after the other: a key may come while something said is still being understood.
        async with self._one:
            self._hushed = False
            try:
                await work
            except Exception:
                log.exception("a call's turn broke", call=self.context.record)
        self.course.idle(self._now())

    async def _guess(self, samples: Frame, pause: int) -> None:
        """Read what was said so far; where it is a whole that was expected, it is all."""
        if self._busy:
            return
        try:
            whole = await self.backend.guess(samples, pause)
        except FondEchoError:
            return
        # What was expected needs no more waiting: a pause says no more of it.
        if whole:
            self._act(self.course.conclude(pause, self._now()))

    def _now(self) -> float:
        return asyncio.get_running_loop().time()

    @property
    def _busy(self) -> bool:
        return self._doing is not None and not self._doing.done()

    def _work(self, kind: Any, **what: Any) -> Work:
        return Work(kind, self.stream.law, self._now() - self.begun_at, **what)

    async def _turn(self, work: Work) -> None:
        """Have a turn made, and see to what it leaves to be done."""
        self._act(self.course.turn_ended(await self.backend.turn(work)))

    async def _greet(self) -> None:
        if not self._greeting_played:
            await self._say_recorded()
        await self._turn(self._work("greet"))
        self.course.greeted()
        self._greeted, self._greeting_played = True, False

    async def _say_recorded(self) -> None:
        if self._handling.record:
            await self._say(self._words.recorded)

    async def _open(self) -> None:
        """The opening of a call that we placed."""
        order = self.context.order
        assert order is not None
        if order.opening.assistant:
            await self._greet()
        else:
            await self._say_recorded()
            try:
                what = await self.backend.opening(self.stream.law)
            except FondEchoError as error:
                await self._carrier.tell(self, "failed", what=str(error))
                self.course.leave("failed")
                return
            if isinstance(what, bytes):
                await self._carrier.tell(self, "opened", seconds=round(len(what) / 8_000, 2))
                self._keep_greeting(what)
                self._play(what)
            else:
                await self._turn(self._work("say", text=what))
        if not order.talks_on:
            self.course.leave("hung-up")

    async def _say(self, text: str) -> None:
        """Say words that belong to no turn."""
        try:
            data = await self._prompts.spoken(
                text, self._speaking.voice, self.stream.law, self._speaking.language,
                self._speaking.engines,
            )  # fmt: skip
        except FondEchoError as error:
            log.warning("words could not be spoken", reason=str(error))
            return
        if data:
            self._play(data)

    def _aloud(self, sound: bytes) -> None:
        """A part of an answer, as soon as it is there."""
        if self.over or self._hushed or self._greeting_played:
            # Nobody hears it, or wants to; or it was said already, from the same words.
            return
        if not self._greeted:
            self._keep_greeting(self._greeting + sound)
        self._play(sound)

    def _keep_greeting(self, sound: bytes) -> None:
        self._greeting, self.course.can_repeat = sound, True

    def _play(self, sound: bytes) -> None:
        self.stream.play(sound)
        self.course.speaks(self._now())
