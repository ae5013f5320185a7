"""The course of a call with an assistant: who speaks, when one listens, what silence means.

    speaking  → (all was said, or the caller cut in) → listening
    listening → (something was said, keys were pressed) → thinking → (an answer) → speaking
    listening → (nothing for a while) → a reminder, in other words each time → at last, the end

The machine is fed frames, keys and the time; it says what is to be done.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from fond_echo.core.telephony.conversation.barge_in import BargeInDetector, level_of
from fond_echo.core.telephony.conversation.listening import (
    Began,
    Frame,
    Listener,
    Paused,
    Utterance,
)

SILENCE: Frame = np.zeros(160, np.int16)

MESSAGE_PAUSE = 2.5
"""Seconds of silence that end a message."""

State = Literal["speaking", "listening", "thinking", "over"]


@dataclass(frozen=True)
class CallPolicy:
    """How a line behaves in calls.

    Attributes:
        barge_in: the caller may speak while the assistant does; without it, only keys stop it.
        wait_seconds: of silence before a reminder.
        reminders: after so many without an answer the call is ended.
        interdigit_seconds: after this long without another key, those pressed are taken.
        max_digits: so many are taken at once.
        terminator: a key that says that all were pressed.
        max_seconds: of the whole call.
    """

    barge_in: bool = True
    wait_seconds: float = 6.0
    reminders: int = 3
    end_seconds: float = 0.7
    max_utterance_seconds: float = 20.0
    interdigit_seconds: float = 2.5
    max_digits: int = 1
    terminator: str = "#"
    max_seconds: float = 3_600.0


@dataclass(frozen=True)
class StopPlayback:
    """Stop speaking: the caller cut in."""


@dataclass(frozen=True)
class SpeculativeEndpoint:
    """Begin to find out what was said: it may be all, up to a pause of that number."""

    samples: Frame
    pause: int


@dataclass(frozen=True)
class Understand:
    """Find out what was said: samples at 8 kHz, up to a pause of that number."""

    samples: Frame
    pause: int = 0


@dataclass(frozen=True)
class Press:
    """Keys were pressed."""

    keys: str


@dataclass(frozen=True)
class Remind:
    """Nothing came; `times` counts, from 1."""

    times: int


@dataclass(frozen=True)
class Leave:
    """End the call, and why."""

    why: Literal["silence", "too-long"]


Action = StopPlayback | SpeculativeEndpoint | Understand | Press | Remind | Leave


class TurnTaking:
    """One call's course.

    Args:
        now: seconds of a steady clock, when the call was answered.
    """

    def __init__(self, policy: CallPolicy, now: float) -> None:
        self.policy = policy
        self.state: State = "thinking"
        self._barge_in = BargeInDetector()
        self._listener = self._listening(policy.end_seconds, policy.max_utterance_seconds)
        self._begun = now
        self._since = now
        self._keys = ""
        self._key_at = now
        self._reminded = 0
        self._message = False

    def take_message(self, seconds: float) -> None:
        """What is said next is a message: it may have pauses, and be so long. It ends by itself or
        with the terminator."""
        self._message = True
        self._listener = self._listening(MESSAGE_PAUSE, seconds)

    def _message_over(self) -> None:
        self._message = False
        how = self.policy
        self._listener = self._listening(how.end_seconds, how.max_utterance_seconds)

    def _listening(self, end_seconds: float, max_seconds: float) -> Listener:
        """Listens from here on, to whoever was known before."""
        made = Listener(end_seconds=end_seconds, max_seconds=max_seconds)
        made.least = self._barge_in.least_to_listen
        return made

    def speak(self, now: float) -> None:
        """Something is being said to the caller."""
        if self.state != "over":
            if self.state != "speaking":
                self._barge_in.reset()
            self.state, self._since = "speaking", now
            self._listener.reset()

    def spoken(self, now: float) -> None:
        """All of it was said."""
        if self.state == "speaking":
            self.state, self._since = "listening", now

    def frame(self, frame: Frame, now: float, sent: Frame | None = None) -> list[Action]:
        """20 ms of what the caller's side sounds like, and of what we sent (silence without)."""
        if self.state == "over":
            return []
        barges_in = self._barge_in.feed(
            SILENCE if sent is None else sent, frame, self.state == "speaking"
        )
        if now - self._begun >= self.policy.max_seconds:
            return self._leave("too-long")
        if self.state == "thinking" or (self.state == "speaking" and not self.policy.barge_in):
            return self._keys_in_time(now)
        actions: list[Action] = []
        # What we said last may still be coming back when we listen.
        watched = self.state == "speaking" or self._barge_in.may_be_echo
        heard = self._listener.feed(frame, barges_in if watched else None)
        if isinstance(heard, Began):
            self._reminded = 0
            self._keys = ""
            if self.state == "speaking":
                self.state = "listening"
                actions.append(StopPlayback())
            self._since = now
        elif isinstance(heard, Utterance):
            self.state, pause = "thinking", self._listener.pauses
            self._knows(heard.samples)
            if self._message:
                self._message_over()
            actions.append(Understand(heard.samples, pause))
        elif isinstance(heard, Paused) and not self._message:
            actions.append(SpeculativeEndpoint(heard.samples, heard.number))
        return actions + self._keys_in_time(now) + self._silence(now)

    @property
    def said_seconds(self) -> float:
        """How long the caller has been speaking; 0 where nobody is."""
        return self._listener.said_seconds

    def fresh(self) -> tuple[Frame, bool] | None:
        """What the caller has said since this was called last, and whether it begins here; None
        where there is nothing new. A message is not told of: it is only kept."""
        listens = self.state == "listening" and not self._message
        return self._listener.fresh() if listens else None

    def key(self, key: str, now: float) -> list[Action]:
        """A key was pressed."""
        if self.state == "over":
            return []
        actions: list[Action] = []
        if self._message and self.state == "listening":
            return self._end_message(key, now)
        if self.state == "speaking":
            self.state = "listening"
            actions.append(StopPlayback())
        self._listener.reset()
        self._reminded = 0
        self._since = self._key_at = now
        if key == self.policy.terminator and self._keys:
            return actions + self._press()
        self._keys += key
        if len(self._keys) >= self.policy.max_digits:
            actions += self._press()
        return actions

    def conclude(self, pause: int, now: float) -> list[Action]:
        """What was said up to a pause is a whole: no need to wait for more."""
        if self.state != "listening" or self._message or not self._listener.still_at(pause):
            return []
        said = self._listener.finish()
        if said is None:
            return []
        self.state, self._since = "thinking", now
        self._knows(said.samples)
        return [Understand(said.samples, pause)]

    def _knows(self, samples: Frame) -> None:
        """Somebody answered: who is much softer is at another table."""
        self._barge_in.knows(level_of(samples))
        self._listener.least = self._barge_in.least_to_listen

    def _end_message(self, key: str, now: float) -> list[Action]:
        """A key while a message is being said: the terminator ends it, others are part of it."""
        said = self._listener.finish() if key == self.policy.terminator else None
        if said is None:
            return []
        self.state, self._since = "thinking", now
        self._message_over()
        return [Understand(said.samples)]

    def _keys_in_time(self, now: float) -> list[Action]:
        if self._keys and now - self._key_at >= self.policy.interdigit_seconds:
            return self._press()
        return []

    def _press(self) -> list[Action]:
        keys, self._keys = self._keys, ""
        self.state = "thinking"
        return [Press(keys)]

    def _silence(self, now: float) -> list[Action]:
        if self.state != "listening" or self._listener.speaking or self._keys:
            return []
        if now - self._since < self.policy.wait_seconds:
            return []
        self._since = now
        self._reminded += 1
        if self._reminded > self.policy.reminders:
            return self._leave("silence")
        self.state = "thinking"
        return [Remind(self._reminded)]

    def _leave(self, why: Literal["silence", "too-long"]) -> list[Action]:
        self.state = "over"
        return [Leave(why)]
