"""The course of one call with an assistant, from its answer to its end, as a machine.

    answered → (a call that we placed: who is it?) → the greeting or the opening → turns → the end

`TurnTaking` says who speaks when; this says what that means for the call: what is greeted, repeated
and reminded, when somebody is called instead, when a message is taken, and when one hangs up. It
is fed frames, keys, the time and what became of turns; it says what is to be done, in order.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from fond_echo.core.telephony.conversation.answering_machine import (
    SILENT_SECONDS,
    UNHEARD_SECONDS,
    AnsweringMachineDetector,
    GreetingListener,
    SecondLook,
)
from fond_echo.core.telephony.conversation.listening import AROUND_SECONDS, Frame
from fond_echo.core.telephony.conversation.turn_taking import Action as Taken
from fond_echo.core.telephony.conversation.turn_taking import (
    CallPolicy,
    Leave,
    Press,
    Remind,
    SpeculativeEndpoint,
    StopPlayback,
    TurnTaking,
    Understand,
)
from fond_echo.core.telephony.sip.calls import Cause

TRANSFER_SECONDS, UNTOLD_SECONDS = 90.0, 20.0
"""Whoever was to be called has so long to answer; then the caller is told that nobody did. Where
the other side never says how it goes, that is sooner."""

FIRST_SOUND, NEXT_SOUND = 2.0, 4.0
"""Seconds until a sound says that somebody is being called, and until the next one."""

FRAMES_AFTER = 12
"""A call is ended so many frames after the last words: the other side holds some back."""


@dataclass(frozen=True)
class CallWords:
    """What is said in a call that belongs to no turn.

    Attributes:
        greetings: how often the greeting is said before reminders are.
        reminders: one after the other; then `goodbye`, and the call ends.
        not_connected: where a transfer did not come about.
        recorded: before all else, where the call is recorded.
    """

    greetings: int = 1
    reminders: tuple[str, ...] = ()
    goodbye: str = ""
    not_connected: str = ""
    recorded: str = ""


@dataclass(frozen=True)
class After:
    """What a turn leaves to be done: the end, a number to transfer to, seconds of a message."""

    ended: bool = False
    transfer: str = ""
    message_seconds: float = 0.0


@dataclass(frozen=True)
class Greet:
    """Begin with the greeting."""


@dataclass(frozen=True)
class Open:
    """Begin with the opening of a call that we placed."""


@dataclass(frozen=True)
class Say:
    """Say words that belong to no turn."""

    words: str


@dataclass(frozen=True)
class Repeat:
    """Say the greeting again."""


@dataclass(frozen=True)
class Beep:
    """A message may begin."""


@dataclass(frozen=True)
class SoundWaiting:
    """A sound while somebody is being called."""


@dataclass(frozen=True)
class Transfer:
    """Ask the other side to call a number."""

    to: str


@dataclass(frozen=True)
class HangUp:
    """End the call."""

    cause: Cause


@dataclass(frozen=True)
class Note:
    """Something happened that stands in the call's log."""

    kind: str
    data: dict[str, Any]


Action = (
    Greet | Open | Say | Repeat | Beep | SoundWaiting | Transfer | HangUp | Note
    | StopPlayback | SpeculativeEndpoint | Understand | Press
)  # fmt: skip


class CallCourse:
    """One call's course.

    Args:
        vanish_seconds: so long without a packet, and the call is over.
        placed: we called; who answered is found out first. `leave_a_message`: the opening is left
            on an answering machine.

    Attributes:
        can_repeat: whether there is a greeting that can be said again.
    """

    def __init__(
        self, policy: CallPolicy, words: CallWords, *, vanish_seconds: float = 30.0,
        placed: bool = False, leave_a_message: bool = True,
    ) -> None:  # fmt: skip
        self._policy, self._words, self._vanish = policy, words, vanish_seconds
        self._leave_a_message = leave_a_message
        silent = SILENT_SECONDS if policy.barge_in else UNHEARD_SECONDS
        self._detector = AnsweringMachineDetector(silent) if placed else None
        self._second_look: SecondLook | None = None
        self._machine: GreetingListener | None = None
        self._taking: TurnTaking | None = None
        self._early_keys: list[str] = []
        self._acted, self._greeted = False, 0
        self.can_repeat = False
        self._leaving: Cause | None = None
        self._transfer_to, self._connecting_since = "", 0.0
        self._connecting, self._told_of = False, False
        self._sound_at = 0.0
        self._message_seconds = 0.0
        self._still = 0

    def answered(self, now: float) -> list[Action]:
        """Both sides may speak; `now` is seconds of a steady clock."""
        self._taking = TurnTaking(self._policy, now)
        begin: list[Action] = [] if self._detector is not None else [Greet()]
        keys, self._early_keys = self._early_keys, []
        return begin + [action for key in keys for action in self.key(key, now)]

    def fresh(self) -> tuple[Frame, bool] | None:
        """What the caller has said since this was called last, and whether it begins here."""
        if self._taking is None or self._finding_out:
            return None
        return self._taking.fresh()

    @property
    def _finding_out(self) -> bool:
        """Whether it is not known yet who answered, or a machine is greeting."""
        return self._detector is not None or self._machine is not None

    def frame(
        self, frame: Frame, keys: Sequence[str], now: float, *, playing: bool, busy: bool,
        heard_at: float, sent: Frame | None = None,
    ) -> list[Action]:  # fmt: skip
        """20 ms have passed.

        Args:
            frame: what came, at 8 kHz; `keys` what was pressed in tones.
            playing: something of ours is still being played; `busy`: a turn is being worked on.
            heard_at: when the last packet came.
            sent: what left at the same time, as it is heard; silence without.
        """
        if self._taking is None:
            self._early_keys += keys
            return []
        if self._finding_out:
            return self._find_out(frame)
        actions: list[Action] = []
        if self._taking.state == "speaking" and not playing and not busy:
            actions += self._all_spoken(now)
        over = self._leaving is not None and self._all_was_said(playing, busy)
        if over and not (self._second_look is not None and self._taking.said_seconds):
            return [HangUp(self._leaving or "hung-up")]
        if now - heard_at > self._vanish:
            return [HangUp("vanished")]
        if self._connecting:
            # The other side is calling somebody; nobody is to be reminded of anything.
            most = TRANSFER_SECONDS if self._told_of else UNTOLD_SECONDS
            if now - self._connecting_since > most:
                return actions + self.transferred(408)
            if now >= self._sound_at:
                self._sound_at = now + NEXT_SOUND
                return [*actions, SoundWaiting()]
            return actions
        for key in keys:
            actions += self.key(key, now)
        taken = self._taken(self._taking.frame(frame, now, sent))
        if self._second_look is not None:
            taken = self._looked_again(frame, playing, taken)
        return actions + taken

    def key(self, key: str, now: float) -> list[Action]:
        """A key, however it came. It may come before the word that we were heard to answer."""
        if self._taking is None:
            self._early_keys.append(key)
        elif self._leaving is None and not self._finding_out:
            return self._taken(self._taking.key(key, now))
        return []

    def conclude(self, pause: int, now: float) -> list[Action]:
        """What was said up to a pause is a whole: no need to wait for more."""
        return self._taken(self._taking.conclude(pause, now)) if self._taking is not None else []

    def speaks(self, now: float) -> None:
        """Something is being said to the other side."""
        if self._taking is not None:
            self._taking.speak(now)

    def greeted(self) -> None:
        """The greeting was said, for the first time."""
        self._greeted = 1

    def turn_ended(self, after: After | None) -> list[Action]:
        """A turn was worked on; None: the other side is not to be answered any more."""
        if after is None:
            return [HangUp("hung-up")]
        if after.ended:
            self._leaving = "hung-up"
        self._transfer_to = after.transfer
        self._message_seconds = after.message_seconds
        return [Beep()] if after.message_seconds else []

    def idle(self, now: float) -> None:
        """All work is done; where nothing was said, the other side is listened to all the same."""
        if self._taking is not None and self._taking.state == "thinking":
            self._taking.speak(now)

    def leave(self, cause: Cause) -> None:
        """The call ends once everything was said."""
        self._leaving = cause

    def transferred(self, status: int) -> list[Action]:
        """What became of a transfer (RFC 3261 §21); 0: it may not be tried."""
        if not self._connecting:
            return []
        if 100 <= status < 200:
            self._told_of = True
            return []
        to, self._transfer_to, self._connecting = self._transfer_to, "", False
        reported: list[Action] = (
            [Note("transferred", {"to": to, "status": status})] if status else []
        )
        if 200 <= status < 300:
            return [*reported, HangUp("transferred")]
        return [*reported, Say(self._words.not_connected)]

    def over(self) -> None:
        """The call is over; a turn that is being worked on is finished, for it stands in the
        log."""
        if self._taking is not None:
            self._taking.state = "over"

    def _find_out(self, frame: Frame) -> list[Action]:
        """Of a call that we placed: who answered, and when to speak."""
        if self._machine is not None:
            if not self._machine.feed(frame):
                return []
            self._machine = None
            # What was said over its greeting is said again.
            return [Repeat() if self.can_repeat else Open()]
        assert self._detector is not None
        who = self._detector.feed(frame)
        if who is None:
            return []
        self._detector = None
        if who == "machine":
            return self._is_a_machine()
        if who == "unknown" and self._policy.barge_in:
            self._second_look = SecondLook()
        return [Note("answered_by", {"who": who}), Open()]

    def _is_a_machine(self) -> list[Action]:
        """It is left a message after its greeting, where it is to be."""
        reported = Note("answered_by", {"who": "machine"})
        if not self._leave_a_message:
            return [reported, HangUp("hung-up")]
        self._machine = GreetingListener()
        return [reported]

    def _looked_again(self, frame: Frame, playing: bool, taken: list[Action]) -> list[Action]:
        """Who had said nothing is spoken to: whether they turn out to be a machine."""
        assert self._taking is not None and self._second_look is not None
        said = next((each.samples for each in taken if isinstance(each, Understand)), None)
        seconds = self._taking.said_seconds if said is None else len(said) / 8_000 - AROUND_SECONDS
        machine = self._second_look.feed(frame, seconds, said is not None, playing)
        if machine is None:
            return taken
        self._second_look = None
        if not machine:
            return taken
        if said is not None:
            # What a greeting says is no turn, and it is over.
            taken = [each for each in taken if not isinstance(each, Understand)]
        stopped = [StopPlayback()] if playing and StopPlayback() not in taken else []
        return [*taken, *stopped, *self._is_a_machine()]

    def _all_spoken(self, now: float) -> list[Action]:
        """Everything was played: what comes after it."""
        assert self._taking is not None
        if not self._taking.said_seconds:
            # They listened to it all: what they say now is an answer, however long.
            self._second_look = None
        self._taking.spoken(now)
        if self._message_seconds:
            self._taking.take_message(self._message_seconds)
            self._message_seconds = 0.0
        if self._transfer_to and not self._connecting:
            self._connecting, self._connecting_since = True, now
            self._told_of, self._sound_at = False, now + FIRST_SOUND
            return [Transfer(self._transfer_to)]
        return []

    def _all_was_said(self, playing: bool, busy: bool) -> bool:
        """Whether the last words have left, and had the time to be heard."""
        self._still = 0 if busy or playing else self._still + 1
        return self._still > FRAMES_AFTER

    def _taken(self, actions: Sequence[Taken]) -> list[Action]:
        found: list[Action] = []
        for action in actions:
            match action:
                case Remind(times):
                    found += self._remind(times)
                case Leave():
                    self._leaving = "hung-up"
                    found.append(Say(self._words.goodbye))
                case _:
                    self._acted |= isinstance(action, Understand | Press)
                    found.append(action)
        return found

    def _remind(self, times: int) -> list[Action]:
        """The caller says nothing: the greeting again, and then other words."""
        if not self._acted and self._greeted < self._words.greetings and self.can_repeat:
            self._greeted += 1
            return [Repeat()]
        repeated = 0 if self._acted else self._words.greetings - 1
        place = min(max(0, times - 1 - repeated), len(self._words.reminders) - 1)
        return [Say(self._words.reminders[place])] if place >= 0 else []
