"""One call with an assistant: its media and its course tied to turns."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from random import SystemRandom
from typing import Any

import structlog

from fond_echo.channels.phone.dependencies import CallDependencies
from fond_echo.channels.phone.media import MediaSockets
from fond_echo.channels.phone.opening import NoOpening, prepared
from fond_echo.channels.phone.recording import CallRecorder
from fond_echo.channels.phone.roles import CallContext, Carrier, Speaking
from fond_echo.channels.phone.turns import After, CallTurns
from fond_echo.contract.base import new_id
from fond_echo.core.audio.clip import Clip
from fond_echo.core.errors import FondEchoError
from fond_echo.core.telephony.conversation.answering_machine import (
    AnsweringMachineDetector,
    GreetingListener,
)
from fond_echo.core.telephony.conversation.turn_taking import (
    Action,
    CallPolicy,
    Leave,
    Press,
    Remind,
    SpeculativeEndpoint,
    StopPlayback,
    TurnTaking,
    Understand,
)
from fond_echo.core.telephony.media.g711 import decoded, in_law
from fond_echo.core.telephony.media.quality import Quality
from fond_echo.core.telephony.media.stream import Identity, Place, Stream
from fond_echo.core.telephony.media.tones import beep
from fond_echo.core.telephony.sip.calls import Call, Cause
from fond_echo.core.telephony.sip.sdp import Agreed
from fond_echo.documents.phone import CallHandling
from fond_echo.store.records import Channel

log = structlog.get_logger()

CHANCE = SystemRandom()

TRANSFER_SECONDS = 90.0
"""Whoever was to be called has so long to answer; then the caller is told that nobody did."""

FRAMES_AFTER = 12
"""A call is ended so many frames after the last words: the other side holds some back."""


class Session:
    """A call from its answer to its end.

    Args:
        agreed: media; None while the other side has not said what it takes.
        manner: the assistant's voice, for words that belong to no turn, and its greeting.
    """

    def __init__(
        self, call: Call, ours: CallContext, channel: Channel, agreed: Agreed | None,
        sockets: MediaSockets, needs: CallDependencies, handling: CallHandling, manner: Speaking,
        carrier: Carrier,
    ) -> None:  # fmt: skip
        self.call, self.ours, self.sockets = call, ours, sockets
        self.agreed = agreed is not None
        self.stream = Stream(
            agreed or Agreed.none(), Identity.chosen(CHANCE), call.hop.host,
            any_source=carrier.any_source,
        )  # fmt: skip
        self.conversation = f"call-{new_id()}"
        self.begun_at = 0.0
        self._needs, self._handling, self._manner = needs, handling, manner
        self._carrier = carrier
        order = ours.order
        begin: dict[str, Any] = {}
        if order is not None:
            begin = {"variables": dict(order.variables)}
            if order.opening.assistant:
                begin["assistant"] = order.opening.assistant
        self._turns = CallTurns(
            needs, channel, call.caller if call.incoming else call.number,
            order.name if order is not None else "", self.conversation, ours.record, begin,
            lambda: not self.over, self._aloud,
        )  # fmt: skip
        self._talk: TurnTaking | None = None
        self._early_keys: list[str] = []
        self._recorder = CallRecorder(needs.database, ours.record) if handling.record else None
        self._answerer = AnsweringMachineDetector() if order is not None else None
        self._machine: GreetingListener | None = None
        self._greeted, self._acted, self._greeting = 0, False, b""
        self._leaving: Cause | None = None
        self._transfer_to, self._connecting, self._connecting_since = "", False, 0.0
        self._message_seconds = 0.0
        self._greeting_played, self._hushed = False, False
        self._still = 0
        self._doing: asyncio.Task[None] | None = None
        self._tasks: set[asyncio.Task[None]] = set()
        self._one = asyncio.Lock()
        self.settled = asyncio.Event()

    @property
    def over(self) -> bool:
        return self.call.state == "ended"

    def begin(self, now: float) -> None:
        """The other side is there: greet, or find out who it is."""
        self.begun_at = now
        self.stream.heard_at = now
        m = self._handling
        self._talk = TurnTaking(
            CallPolicy(
                m.barge_in, m.wait_seconds, len(m.reminders) + m.greetings - 1, m.end_seconds,
                m.max_utterance_seconds, m.interdigit_seconds, m.max_digits, m.terminator,
                m.max_seconds,
            ),
            now,
        )  # fmt: skip
        if self._answerer is None:
            self._play_ready()
            self._do(self._greet())
        for key in self._early_keys:
            self.key(key, now)

    def _play_ready(self) -> None:
        """Say at once what is always said first, where it was rendered before."""
        said = [self._handling.record_words] if self._handling.record else []
        words = [each for each in (*said, self._manner.greeting) if each]
        prompts, voice, law = self._needs.prompts, self._manner.voice, self.stream.law
        ready = [prompts.ready(each, voice, law) for each in words]
        if self._manner.greeting and all(ready):
            self._greeting, self._greeting_played = ready[-1], True
            self._play(b"".join(ready))

    def tick(self, now: float, wall: float) -> None:
        """20 ms have passed."""
        for data in self.stream.tick():
            self.sockets.send(data, self.stream.place)
        report = self.stream.report(now, wall)
        if report:
            self.sockets.send_report(report, self.stream.place)
        frame, keys = self.stream.heard()
        if self._talk is None:
            self._early_keys += keys
            return
        if self._recorder is not None:
            self._recorder.add(frame, decoded(self.stream.said, self.stream.law))
        if self._answerer is not None:
            self._find_out(frame)
            return
        if self._talk.state == "speaking" and not self.stream.playing and not self._busy:
            self._all_spoken(now)
        if self._leaving is not None and self._all_was_said():
            self._carrier.hang_up(self, self._leaving)
            return
        if self._vanished(now):
            self._carrier.hang_up(self, "vanished")
            return
        if self._connecting:
            # The other side is calling somebody; nobody is to be reminded of anything.
            if now - self._connecting_since > TRANSFER_SECONDS:
                self.transferred(408)
            return
        for key in keys:
            self.key(key, now)
        self._act(self._talk.frame(frame, now))

    def _vanished(self, now: float) -> bool:
        """Whether nothing has come for long, though something should."""
        if self.stream.agreed.direction not in ("sendrecv", "recvonly"):
            self.stream.heard_at = now
        return now - (self.stream.heard_at or now) > self._handling.silence_seconds

    def _find_out(self, frame: Any) -> None:
        """Of a call that we placed: who answered, and when to speak."""
        assert self._answerer is not None and self.ours.order is not None
        if self._machine is not None:
            if self._machine.feed(frame):
                self._answerer = None
                self._do(self._open())
            return
        who = self._answerer.feed(frame)
        if who is None:
            return
        self._run(self._carrier.tell(self, "answerer", who=who))
        if who == "machine" and self.ours.order.at_a_machine == "hang-up":
            self._answerer = None
            self._carrier.hang_up(self, "hung-up")
        elif who == "machine":
            self._machine = GreetingListener()
        else:
            self._answerer = None
            self._do(self._open())

    def received(self, data: bytes, place: Place, now: float) -> None:
        key = self.stream.receive(data, place, now)
        if key:
            self.key(key, now)

    def key(self, key: str, now: float) -> None:
        """A key, however it came. It may come before the word that we were heard to answer."""
        if self._talk is None:
            self._early_keys.append(key)
        elif self._leaving is None and self._answerer is None:
            self._act(self._talk.key(key, now))

    def transferred(self, status: int) -> None:
        """What became of a transfer."""
        if not self._connecting:
            return
        to, self._transfer_to, self._connecting = self._transfer_to, "", False
        self._run(self._carrier.tell(self, "transferred", to=to, status=status))
        if 200 <= status < 300:
            self._carrier.hang_up(self, "transferred")
        else:
            self._do(self._say(self._handling.not_connected))

    @property
    def waveforms(self) -> dict[str, Any] | None:
        """How loud both sides were, of a call that is recorded."""
        return self._recorder.waveforms if self._recorder is not None else None

    async def end(self) -> Quality | None:
        """The call is over; gives how it sounded, where anything was heard."""
        if self._talk is not None:
            # A turn that is being worked on is finished: it stands in the log.
            self._talk.state = "over"
        self.sockets.close()
        self.settled.set()
        if self._recorder is not None:
            await self._recorder.finish()
        return self.stream.quality()

    def _act(self, actions: list[Action]) -> None:
        for action in actions:
            match action:
                case StopPlayback():
                    if self.stream.playing:
                        self._run(self._carrier.tell(self, "barge-in"))
                    self.stream.hush()
                    self._hushed = True
                case SpeculativeEndpoint(samples, pause):
                    self._run(self._guess(samples, pause))
                case Understand(samples, pause):
                    self._acted = True
                    told = self._taken("said")
                    self._do(self._after(self._turns.hear(samples, pause, told)))
                case Press(keys):
                    self._acted = True
                    self._do(self._after(self._turns.press(keys, self._taken("key", keys=keys))))
                case Remind(times):
                    self._do(self._remind(times))
                case Leave():
                    self._leaving = "hung-up"
                    self._do(self._say(self._handling.no_input_goodbye))

    def _do(self, work: Any) -> None:
        self._doing = self._run(self._guarded(work))

    def _run(self, work: Any) -> asyncio.Task[None]:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
        return task

    async def _guarded(self, work: Any) -> None:
        # One after the other: a key may come while something said is still being understood.
        async with self._one:
            self._hushed = False
            try:
                await work
            except Exception:
                log.exception("a call's turn broke", call=self.ours.record)
        self.settled.set()
        if self._talk is not None and self._talk.state == "thinking":
            # Nothing was said: the other side is listened to all the same.
            self._talk.speak(self._now())

    async def _guess(self, samples: Any, pause: int) -> None:
        """Read what was said so far; where it is a whole that was expected, it is all."""
        if self._busy:
            return
        begun = self._turns.guess(samples, pause)
        if begun is None:
            return
        task, may_be_whole = begun
        try:
            heard = await asyncio.shield(task)
        except (FondEchoError, asyncio.CancelledError):
            return
        # What was expected needs no more waiting: a pause says no more of it.
        if heard.source == "expected" and may_be_whole and self._talk is not None:
            self._act(self._talk.conclude(pause, self._now()))

    def _now(self) -> float:
        return asyncio.get_running_loop().time()

    def _all_spoken(self, now: float) -> None:
        """Everything was played: what comes after it."""
        assert self._talk is not None
        self._talk.spoken(now)
        if self._transfer_to and not self._connecting and not self._busy:
            self._connecting = self._carrier.transfer(self, self._transfer_to)
            self._connecting_since = now
            if not self._connecting:
                self._do(self._say(self._handling.not_connected))
                self._transfer_to = ""
        if self._message_seconds and not self._busy:
            self._talk.take_message(self._message_seconds)
            self._message_seconds = 0.0

    @property
    def _busy(self) -> bool:
        return self._doing is not None and not self._doing.done()

    def _all_was_said(self) -> bool:
        """Whether the last words have left, and had the time to be heard."""
        self._still = 0 if self._busy or self.stream.playing else self._still + 1
        return self._still > FRAMES_AFTER

    def _taken(self, kind: str, **more: Any) -> Callable[[str], Awaitable[None]]:
        async def told(turn_id: str) -> None:
            await self._carrier.tell(self, kind, turn=turn_id, **more)

        return told

    async def _greet(self) -> None:
        if not self._greeting_played:
            await self._say_recorded()
        await self._after(self._turns.greet(self._taken("greeted")))
        self._greeted, self._greeting_played = 1, False

    async def _say_recorded(self) -> None:
        if self._handling.record and self._handling.record_words:
            await self._say(self._handling.record_words)

    async def _open(self) -> None:
        """The opening of a call that we placed."""
        order = self.ours.order
        assert order is not None
        if order.opening.assistant:
            await self._greet()
        else:
            await self._say_recorded()
            try:
                what = await prepared(order.opening, self._needs.client, self._needs.clips)
            except NoOpening as error:
                await self._carrier.tell(self, "failed", what=str(error))
                self._leaving = "failed"
                return
            if isinstance(what, Clip):
                await self._carrier.tell(self, "opened", seconds=round(what.seconds, 2))
                sound = await asyncio.to_thread(in_law, what, self.stream.law)
                self._greeting = sound
                self._play(sound)
            else:
                await self._after(self._turns.say(what, self._taken("opened")))
        if not order.talks_on:
            self._leaving = "hung-up"

    async def _after(self, turn: Awaitable[After | None]) -> None:
        """Wait for a turn, and for what it leaves to be done."""
        after = await turn
        if after is None:
            self._carrier.hang_up(self, "hung-up")
            return
        state = after.state
        if state.get("ended"):
            self._leaving = "hung-up"
        self._transfer_to = str(state.get("transfer", ""))
        recording = state.get("recording")
        if recording:
            self._message_seconds = float(recording["seconds"])
            self._play(in_law(beep(), self.stream.law))

    async def _remind(self, times: int) -> None:
        """The caller says nothing: the greeting again, and then other words."""
        if not self._acted and self._greeted < self._handling.greetings and self._greeting:
            self._greeted += 1
            self._play(self._greeting)
            return
        repeated = 0 if self._acted else self._handling.greetings - 1
        place = min(max(0, times - 1 - repeated), len(self._handling.reminders) - 1)
        if place >= 0:
            await self._say(self._handling.reminders[place])

    async def _say(self, text: str) -> None:
        """Say words that belong to no turn."""
        try:
            data = await self._needs.prompts.spoken(text, self._manner.voice, self.stream.law)
        except FondEchoError as error:
            log.warning("words could not be spoken", reason=str(error))
            return
        if data:
            self._play(data)

    async def _aloud(self, clip: Clip) -> None:
        """A part of an answer, as soon as it is there."""
        if self.over or self._hushed or self._greeting_played:
            # Nobody hears it, or wants to; or it was said already, from the same words.
            return
        sound = await asyncio.to_thread(in_law, clip, self.stream.law)
        if not self._greeted:
            self._greeting += sound
        self._play(sound)

    def _play(self, sound: bytes) -> None:
        self.stream.play(sound)
        if self._talk is not None:
            self._talk.speak(self._now())
