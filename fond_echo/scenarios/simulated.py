"""Scenarios played without a network: a conversation in a chat or a call, with its sound, in no
more time than the work itself takes. Nothing is stored or sent; the clock is the scenario's own."""

from __future__ import annotations

import zlib
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np

from fond_echo.contract.base import new_id
from fond_echo.contract.channel import Inbound, SoundHandle
from fond_echo.contract.replay import TurnOutcome
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.telephony.conversation import course as events
from fond_echo.core.telephony.conversation.course import After, CallCourse
from fond_echo.core.telephony.conversation.listening import FRAME_SECONDS, Frame
from fond_echo.core.telephony.conversation.turn_taking import Press, StopPlayback, Understand
from fond_echo.core.telephony.media import g711
from fond_echo.core.telephony.media.g711 import in_law
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.call_handling import Speaking, policy_of, sentences_of
from fond_echo.documents.phone import CallHandling
from fond_echo.documents.scenario import Noise, ScenarioFile
from fond_echo.replays.cases import CaseAnswers
from fond_echo.replays.nothing_outside import NothingOutside
from fond_echo.replays.replaying import taken_again
from fond_echo.turns.closing import closing_of
from fond_echo.turns.memory import with_facts
from fond_echo.turns.ports import LogicPort
from fond_echo.turns.state import ConversationState
from fond_echo.turns.turn import TurnSoFar

FRAME = round(g711.RATE * FRAME_SECONDS)
MAX_ANSWER_SECONDS = 300.0
"""A call in which nothing comes of a step for so long is given up."""

QUIET = 40.0
"""RMS of the line while nobody speaks, in 16 bits."""

LISTENS_FIRST = 0.6
"""Seconds for which who interrupts has listened."""

Hear = Callable[[Clip, Expected], Awaitable[Heard]]
Speak = Callable[[str, str], Clip]
"""Words and a voice to sound."""


@dataclass(frozen=True)
class Around:
    """What a simulation needs of the world: who hears and speaks, and business logic for what the
    scenario has no answer to."""

    hear: Hear
    speak: Speak
    logic: LogicPort


@dataclass
class Came:
    """What came of a step: the turn that it made, if it made one, and what happened besides."""

    outcome: TurnOutcome | None = None
    turn: TurnSoFar | None = None
    reminded: bool = False
    interrupted: bool = False
    ended: bool = False


def suffering(clip: Clip, noise: Noise | None, seed: int) -> Clip:
    """A sound with noise beside it."""
    if noise is None:
        return clip
    rng = np.random.default_rng(seed)
    count = len(clip)
    times = np.arange(count) / clip.rate
    made = rng.standard_normal(count)
    if noise.kind == "hum":
        made = sum(np.sin(2 * np.pi * 50 * k * times + k) / k for k in range(1, 8)) + 0.1 * made
    elif noise.kind == "murmur":
        # Many voices at once: low, and swelling as syllables do.
        made = np.convolve(made, np.ones(12) / 12, "same")
        places = np.arange(0.0, clip.seconds + 1.0, 0.15)
        made = made * np.interp(times, places, rng.uniform(0.3, 1.0, len(places)))
    loud = np.abs(clip.samples) > 0.1 * max(clip.peak, 1e-9)
    power = float(np.mean(np.square(clip.samples[loud]))) if loud.any() else 0.0
    level = np.sqrt(power / 10 ** (noise.decibels / 10) / max(1e-12, float(np.mean(made**2))))
    return Clip((clip.samples + level * made).astype(np.float32), clip.rate)


class Conversation:
    """The turns of one scenario, in a chat or a call.

    Attributes:
        now: the scenario's clock.
    """

    def __init__(
        self, scenario: ScenarioFile, assistant: AssistantFile, revision: str, around: Around,
        voice: str = "",
    ) -> None:  # fmt: skip
        self.scenario, self.assistant, self.around = scenario, assistant, around
        self.voice = voice or scenario.voice
        self.kept = CaseAnswers(scenario.logic)
        self.now = scenario.now or datetime.now(UTC)
        self.state = ConversationState()
        self.memory = dict(scenario.memory)
        self._revision, self._number = revision, 0

    def spoken(self, words: str) -> Clip:
        """What the person says, with what the sound suffers."""
        clip = self.around.speak(words, self.voice)
        return suffering(clip, self.scenario.noise, zlib.crc32(words.encode()))

    async def turn(self, sound: Clip | None = None, in_call: bool = False, **said: Any) -> Came:
        """Make a turn of something that was said."""
        self._number += 1
        handle = SoundHandle(handle="said", kind="call" if in_call else "note") if sound else None
        inbound = Inbound(
            id=new_id(), conversation="scenario", contact="scenario", name=self.scenario.contact,
            sound=handle, spoken_reply=True if in_call else None, **said,
        )  # fmt: skip
        turn = TurnSoFar(
            id=new_id(), run_id=new_id(), run="case", number=self._number, channel="scenario",
            conversation_id="scenario", contact_id="scenario", contact_name=self.scenario.contact,
            inbound=inbound, assistant=self.assistant, revision=self._revision, clock=self.now,
            seed=1, state=self.state, memory=self.memory,
        )  # fmt: skip

        async def hear(expected: Expected) -> Heard:
            assert sound is not None
            return await self.around.hear(at_rate(sound, RATE), expected)

        needs = NothingOutside(self.around.logic, self.kept)
        taken, outcome = await taken_again(
            turn, self.assistant, self._revision, needs, hear if sound is not None else None
        )
        closing = closing_of(taken)
        if taken.answered is not None:
            self.state = closing.state
        for facts, days in closing.remember:
            self.memory = with_facts(self.memory, facts, days, self.now)
        return Came(outcome, taken, ended=self.state.ended)


class Chat:
    """A scenario as a chat: voice notes, texts, buttons."""

    def __init__(self, conversation: Conversation) -> None:
        self._talk = conversation

    async def begin(self) -> None:
        """Nothing is said before the person says something."""

    async def says(self, words: str, *, interrupts: bool) -> Came:
        return await self._talk.turn(self._talk.spoken(words))

    async def types(self, words: str) -> Came:
        return await self._talk.turn(text=words)

    async def presses(self, keys: str) -> Came:
        return await self._talk.turn(text=keys)

    async def picks(self, label: str) -> Came:
        values = {each.casefold(): each for each in self._talk.state.choices}
        return await self._talk.turn(choice=values.get(label.casefold(), label))

    async def waits(self, seconds: float) -> Came:
        self._talk.now += timedelta(seconds=seconds)
        return Came(ended=self._talk.state.ended)


class Call:
    """A scenario as a telephone call: the same machine that takes real calls, at its own pace."""

    def __init__(self, conversation: Conversation, handling: CallHandling | None = None) -> None:
        self._talk = conversation
        handling = handling or CallHandling()
        assistant = conversation.assistant
        speaking = Speaking(assistant.voice, sentences=sentences_of(assistant.says))
        words = speaking.words(handling)
        policy = policy_of(handling, len(words.reminders))
        self._course = CallCourse(policy, words, vanish_seconds=handling.silence_seconds)
        self._seconds = 0.0
        self._begun = conversation.now
        self._playing_until = self._greeting = 0.0
        self._rng = np.random.default_rng(7)
        self._came = Came()
        self.over = False

    async def begin(self) -> None:
        """The call is answered, and greeted."""
        await self._act(self._course.answered(0.0))
        await self._until_spoken()

    async def says(self, words: str, *, interrupts: bool) -> Came:
        self._came = Came()
        if interrupts:
            # What is being said is heard for a moment first.
            self._course.speaks(self._seconds)
            self._playing_until = max(self._playing_until, self._seconds + 8.0)
            await self._wait(LISTENS_FIRST)
        else:
            await self._until_spoken()
        data = in_law(at_rate(self._talk.spoken(words), g711.RATE), "PCMU")
        samples = g711.decoded(data, "PCMU")
        count = len(samples) // FRAME * FRAME
        for frame in samples[:count].reshape(-1, FRAME):
            lost = self._rng.random() < self._talk.scenario.loss
            await self._frame(np.zeros(FRAME, np.int16) if lost else frame)
        return await self._answered()

    async def types(self, words: str) -> Came:
        return await self.says(words, interrupts=False)

    async def picks(self, label: str) -> Came:
        return await self.says(label, interrupts=False)

    async def presses(self, keys: str) -> Came:
        self._came = Came()
        await self._until_spoken()
        for key in keys:
            await self._act(self._course.key(key, self._seconds))
        return await self._answered()

    async def waits(self, seconds: float) -> Came:
        """Nothing is said; what the machine does about that takes no time."""
        self._came = Came()
        await self._until_spoken()
        await self._wait(seconds)
        self._came.ended = self.over
        return self._came

    async def _until_spoken(self) -> None:
        while self._seconds < self._playing_until and not self.over:
            await self._frame(self._quiet())
        await self._wait(0.2)

    async def _wait(self, seconds: float) -> None:
        until = self._seconds + seconds
        while self._seconds < until and not self.over:
            await self._frame(self._quiet())

    async def _answered(self) -> Came:
        """Until a turn came of it, or the call is over."""
        until = self._seconds + MAX_ANSWER_SECONDS
        while self._came.turn is None and self._seconds < until and not self.over:
            await self._frame(self._quiet())
        await self._frame(self._quiet())
        if self._talk.state.ended:
            await self._until_spoken()
            await self._wait(3.0)
        self._came.ended = self.over or self._talk.state.ended
        return self._came

    def _quiet(self) -> Frame:
        return self._rng.normal(0.0, QUIET / 4, FRAME).astype(np.int16)

    async def _frame(self, frame: Frame) -> None:
        self._seconds += FRAME_SECONDS
        playing = self._seconds < self._playing_until
        await self._act(
            self._course.frame(
                frame, (), self._seconds, playing=playing, busy=False, heard_at=self._seconds
            )
        )

    def _play(self, words: str) -> float:
        """Say words; how long that takes."""
        length = self._talk.around.speak(words, self._talk.assistant.voice).seconds if words else 0
        self._playing_until = max(self._playing_until, self._seconds) + length
        self._course.speaks(self._seconds)
        return float(length)

    async def _turn(self, sound: Clip | None = None, **said: Any) -> None:
        self._talk.now = self._begun + timedelta(seconds=self._seconds)
        came = await self._talk.turn(sound, in_call=True, **said)
        before = self._came
        self._came = replace(came, interrupted=before.interrupted, reminded=before.reminded)
        state = self._talk.state
        seconds = state.recording.seconds if state.recording is not None else 0.0
        self._play(came.outcome.spoken if came.outcome is not None else "")
        await self._act(self._course.turn_ended(After(state.ended, state.transfer, seconds)))
        self._course.idle(self._seconds)

    async def _act(self, actions: Sequence[events.Action]) -> None:
        for action in actions:
            match action:
                case events.Greet() | events.Open():
                    await self._turn(joined=True)
                    self._greeting = self._playing_until - self._seconds
                    self._course.greeted()
                    self._course.can_repeat = True
                    self._came = Came()
                case Understand(samples, _):
                    clip = Clip(samples.astype(np.float32) / np.float32(32_768), g711.RATE)
                    await self._turn(clip)
                case Press(keys):
                    await self._turn(text=keys, key=keys)
                case StopPlayback():
                    self._came.interrupted = self._seconds < self._playing_until
                    self._playing_until = self._seconds
                case events.Say(words):
                    self._came.reminded = True
                    self._play(words)
                case events.Repeat():
                    self._came.reminded = True
                    self._playing_until = self._seconds + self._greeting
                    self._course.speaks(self._seconds)
                case events.Beep():
                    self._playing_until += 0.3
                case events.Transfer(_):
                    await self._act(self._course.transferred(200))
                case events.HangUp(_):
                    self._course.over()
                    self.over = True
                case _:
                    pass


def clip_of(words: str, voice: str, speak: Callable[..., Any]) -> Clip:
    """Words as one clip. Raises what the synthesizer raises."""
    parts = [part.clip for part in speak(words, voice)]
    if not parts:
        raise FondEchoError(f"nothing can be said for {words!r}")
    return Clip(np.concatenate([part.samples for part in parts]), parts[0].rate)
