"""One call with an assistant: its media and its course tied to turns."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np
import structlog

from fond_echo.contract.base import new_id
from fond_echo.contract.line import Inbound, LineSettings, SoundHandle
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import decode, encode
from fond_echo.core.errors import FondEchoError
from fond_echo.core.telephony.calls import Call
from fond_echo.core.telephony.g711 import RATE, in_law
from fond_echo.core.telephony.quality import Quality
from fond_echo.core.telephony.sdp import Agreed
from fond_echo.core.telephony.stream import Identity, Place, Stream
from fond_echo.core.telephony.talk import (
    Action,
    Hush,
    Leave,
    Manners,
    Press,
    Remind,
    Talk,
    Understand,
)
from fond_echo.documents.phone import CallManners
from fond_echo.lines.phone.line import CallLine
from fond_echo.lines.phone.media import MediaSockets
from fond_echo.stages.journal import Journal
from fond_echo.stages.ports import Needs, Voice
from fond_echo.stages.queued import QueuedDriver, World
from fond_echo.store.clips import ClipStore
from fond_echo.store.database import Database
from fond_echo.store.inbound import take_in_once
from fond_echo.store.records import Conversation, Line, Turn

log = structlog.get_logger()

FRAMES_AFTER = 12
"""A call is ended so many frames after the last words: the other side holds some back."""

Tell = Callable[[str, dict[str, Any]], Awaitable[None]]


@dataclass(frozen=True)
class House:
    """What all calls of a process share."""

    database: Database
    queue: Any
    world: World
    clips: ClipStore
    voice: Voice


class _CallWorld:
    """The world as a turn of this call finds it: its line is the call."""

    def __init__(self, world: World, line: CallLine) -> None:
        self._world, self._line = world, line

    async def needs(self, line: Line, now: datetime) -> Needs:
        return replace(await self._world.needs(line, now), line=self._line)


class Session:
    """A call from its answer to its end.

    Args:
        voice: the name of the assistant's voice, for reminders.
        hang_up: ends the call.
        tell: writes down an event of the call.
    """

    def __init__(
        self, call: Call, line: Line, agreed: Agreed, sockets: MediaSockets, house: House,
        manners: CallManners, voice: str, hang_up: Callable[[], None], tell: Tell,
    ) -> None:  # fmt: skip
        self.call = call
        self.stream = Stream(agreed, Identity.chosen())
        self.sockets = sockets
        self._line, self._house, self._manners, self._voice = line, house, manners, voice
        self._hang_up, self._tell = hang_up, tell
        self._settings = LineSettings.model_validate(line.settings)
        call_line = CallLine(house.clips, self._play_note)
        journal = Journal(house.database, house.queue)
        self._driver = QueuedDriver(journal, _CallWorld(house.world, call_line))
        self._talk: Talk | None = None
        self._conversation = f"call-{new_id()}"
        self._greeted = 0
        self._acted = False
        self._greeting = b""
        self._leaving = False
        self._still = 0
        self._doing: asyncio.Task[None] | None = None
        self._one = asyncio.Lock()

    @property
    def over(self) -> bool:
        return self.call.state == "ended"

    def begin(self, now: float) -> None:
        """The caller is there: greet."""
        m = self._manners
        self._talk = Talk(
            Manners(
                m.barge_in, m.wait_seconds, len(m.reminders) + m.greetings - 1, m.end_seconds,
                m.longest_said, m.key_seconds, m.keys, m.terminator, m.longest_seconds,
            ),
            now,
        )  # fmt: skip
        self._do(self._turn(joined=True))

    def tick(self, now: float, wall: float) -> None:
        """20 ms have passed."""
        for data in self.stream.tick():
            self.sockets.send(data, self.stream.place)
        report = self.stream.report(now, wall)
        if report:
            self.sockets.send_report(report, self.stream.place)
        frame, keys = self.stream.heard()
        if self._talk is None:
            return
        if self._talk.state == "speaking" and not self.stream.playing:
            self._talk.spoken(now)
        if self._leaving and self._all_was_said():
            self._hang_up()
            return
        for key in keys:
            self.key(key, now)
        self._act(self._talk.frame(frame, now))

    def received(self, data: bytes, place: Place, now: float) -> None:
        key = self.stream.receive(data, place, now)
        if key:
            self.key(key, now)

    def key(self, key: str, now: float) -> None:
        """A key, however it came."""
        if self._talk is not None and not self._leaving:
            self._act(self._talk.key(key, now))

    def end(self) -> Quality:
        """The call is over; gives how it sounded."""
        if self._doing is not None and self._talk is not None:
            # A turn that is being worked on is finished: it stands in the log.
            self._talk.state = "over"
        self.sockets.close()
        return self.stream.quality()

    def _act(self, actions: list[Action]) -> None:
        for action in actions:
            match action:
                case Hush():
                    self.stream.hush()
                case Understand(samples):
                    self._acted = True
                    self._do(self._turn(samples=samples))
                case Press(keys):
                    self._acted = True
                    self._do(self._turn(keys=keys))
                case Remind(times):
                    self._do(self._remind(times))
                case Leave():
                    self._leaving = True
                    self._do(self._say(self._manners.leaving))

    def _do(self, work: Any) -> None:
        self._doing = asyncio.create_task(self._guarded(work))

    async def _guarded(self, work: Any) -> None:
        # One after the other: a key may come while something said is still being understood.
        async with self._one:
            try:
                await work
            except Exception:
                log.exception("a call's turn broke", call=self.call.id)
        self._listen_again()

    def _listen_again(self) -> None:
        """Nothing was said: the caller is listened to all the same."""
        if self._talk is not None and self._talk.state == "thinking":
            self._talk.speak(asyncio.get_running_loop().time())

    def _all_was_said(self) -> bool:
        """Whether the last words have left, and had the time to be heard."""
        busy = self._doing is not None and not self._doing.done()
        self._still = 0 if busy or self.stream.playing else self._still + 1
        return self._still > FRAMES_AFTER

    async def _turn(self, *, joined: bool = False, samples: Any = None, keys: str = "") -> None:
        """Something came from the caller: a turn like any other, carried here."""
        sound = None
        if samples is not None:
            clip = Clip(samples.astype(np.float32) / 32_768, RATE)
            data = await asyncio.to_thread(encode, clip, "flac")
            kept = await self._house.clips.keep(
                data, "audio/flac", "received", seconds=clip.seconds, rate=RATE
            )
            sound = SoundHandle(handle=kept.id, kind="call", seconds=clip.seconds)
        message = Inbound(
            id=new_id(),
            conversation=self._conversation,
            contact=self.call.caller or "unknown",
            text=keys,
            key=keys,
            sound=sound,
            joined=joined,
            aloud=True,
        )
        taken = await take_in_once(
            self._house.database, self._house.queue, self._line.name, self._settings, message,
            {"call": self.call.id}, queued=False,
        )  # fmt: skip
        if not taken.turn_id:
            self._hang_up()
            return
        kind = "greeted" if joined else "key" if keys else "said"
        await self._tell(kind, {"turn": taken.turn_id, "keys": keys})
        await self._driver.work(taken.turn_id)
        if joined:
            self._greeted = 1
        await self._what_next(taken.turn_id)

    async def _what_next(self, turn_id: str) -> None:
        """Whether the conversation ended with the turn."""
        async with self._house.database.reading() as session:
            turn = await session.get(Turn, turn_id)
            assert turn is not None
            conversation = await session.get_one(Conversation, turn.conversation_id)
        if conversation.state.get("ended"):
            self._leaving = True

    async def _remind(self, times: int) -> None:
        """The caller says nothing: the greeting again, and then other words."""
        if not self._acted and self._greeted < self._manners.greetings and self._greeting:
            self._greeted += 1
            self._play(self._greeting)
            return
        repeated = 0 if self._acted else self._manners.greetings - 1
        place = min(max(0, times - 1 - repeated), len(self._manners.reminders) - 1)
        if place >= 0:
            await self._say(self._manners.reminders[place])

    async def _say(self, text: str) -> None:
        """Say words that belong to no turn."""
        data = b""
        try:
            async for part in self._house.voice.speak(text, self._voice, seed=1):
                data += in_law(part.clip, self.stream.law)
        except FondEchoError as error:
            log.warning("words could not be spoken", reason=str(error))
        if data:
            self._play(data)

    async def _play_note(self, data: bytes) -> bool:
        """A voice note that a turn delivers; False where nobody hears it any more."""
        sound = await asyncio.to_thread(lambda: in_law(decode(data).clip, self.stream.law))
        if self.over:
            return False
        if not self._greeting:
            self._greeting = sound
        self._play(sound)
        return True

    def _play(self, sound: bytes) -> None:
        self.stream.play(sound)
        if self._talk is not None:
            self._talk.speak(asyncio.get_running_loop().time())
