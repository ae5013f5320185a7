"""Who answered a call that we placed: a person says a little and waits; a machine greets at length,
and beeps."""

from __future__ import annotations

from typing import Literal

import numpy as np

from fond_echo.core.telephony.conversation.listening import (
    FRAME_SECONDS,
    Began,
    Frame,
    Listener,
    Utterance,
)

Answerer = Literal["person", "machine", "unknown"]

SILENT_SECONDS = 1.5
"""Nothing was said for so long after the answer: who it is stays unknown, and is spoken to."""

UNHEARD_SECONDS = 4.0
"""The same where nobody is heard while we speak: a machine that begins then is not noticed."""

PAUSE_SECONDS = 0.75
"""A pause that ends what somebody says first. A machine's sentences follow one another faster, or
are long by themselves."""

PERSON_SECONDS = 2.4
"""So much and no more is said by a person before a pause."""

MACHINE_SECONDS = 3.2
"""Who goes on for so long is a machine."""

TONE_FRAMES = 10
TONE_SHARE = 0.8
"""A beep: so many frames one after the other whose energy lies so far in one narrow band, the same
in all of them."""

MIN_HZ, MAX_HZ = 350.0, 3_000.0


class ToneDetector:
    """Hears a steady tone."""

    def __init__(self) -> None:
        self._bin = -1
        self._count = 0
        self._window = np.hanning(160).astype(np.float32)

    def feed(self, frame: Frame) -> bool:
        """Whether a tone has been there for long enough, with this frame of 20 ms at 8 kHz."""
        samples = frame.astype(np.float32)
        level = float(np.sqrt(np.mean(samples**2)))
        power = np.abs(np.fft.rfft(samples * self._window)) ** 2
        top = int(power.argmax())
        share = float(power[max(0, top - 2) : top + 3].sum() / max(1e-9, power.sum()))
        steady = (
            level > 100 and share > TONE_SHARE and MIN_HZ < top * 50.0 < MAX_HZ
            and (self._count == 0 or abs(top - self._bin) <= 1)
        )  # fmt: skip
        if not steady:
            self._count = 0
            return False
        self._bin = top if self._count == 0 else self._bin
        self._count += 1
        return self._count >= TONE_FRAMES


class AnsweringMachineDetector:
    """Fed what is heard from the answer on, frame by frame, until it knows.

    Args:
        silent_seconds: nothing was said for so long: who it is stays unknown.

    Attributes:
        who: what it found; None while it does not know.
    """

    def __init__(self, silent_seconds: float = SILENT_SECONDS) -> None:
        self.who: Answerer | None = None
        self._silent = silent_seconds
        self._listener = Listener(end_seconds=PAUSE_SECONDS, max_seconds=60.0)
        self._tone = ToneDetector()
        self._frames = 0
        self._began = -1
        self._spoken = 0.0

    def feed(self, frame: Frame) -> Answerer | None:
        """A frame of 20 ms at 8 kHz; gives what it found, once it has."""
        if self.who is not None:
            return self.who
        self._frames += 1
        seconds = self._frames * FRAME_SECONDS
        if self._tone.feed(frame):
            self.who = "machine"
            return self.who
        heard = self._listener.feed(frame)
        if isinstance(heard, Began):
            self._began = self._frames
        elif isinstance(heard, Utterance):
            length = (self._frames - self._began) * FRAME_SECONDS - PAUSE_SECONDS
            self.who = "person" if length <= PERSON_SECONDS else "machine"
        elif self._listener.speaking:
            if (self._frames - self._began) * FRAME_SECONDS >= MACHINE_SECONDS:
                self.who = "machine"
        elif seconds >= self._silent:
            self.who = "unknown"
        return self.who


class SecondLook:
    """Who said nothing is spoken to, and stays unknown: a machine may greet only then."""

    def __init__(self, seconds: float = 15.0) -> None:
        self._left = round(seconds / FRAME_SECONDS)
        self._tone = ToneDetector()

    def feed(self, frame: Frame, said_seconds: float, whole: bool, playing: bool) -> bool | None:
        """Whether it is a machine after all; None while that is not known.

        Args:
            frame: 20 ms at 8 kHz.
            said_seconds: how long they have been saying something; `whole`: it is all of it.
            playing: we are heard, and may come back.
        """
        self._left -= 1
        if not playing and self._tone.feed(frame):
            return True
        if whole:
            return said_seconds > PERSON_SECONDS
        if said_seconds >= MACHINE_SECONDS:
            return True
        return False if self._left <= 0 and not said_seconds else None


class GreetingListener:
    """After a machine was found: hears when its greeting is over and one may speak."""

    def __init__(self, *, quiet_seconds: float = 1.6, max_seconds: float = 40.0) -> None:
        self._tone = ToneDetector()
        self._toned = False
        self._quiet = 0
        self._listener = Listener(end_seconds=quiet_seconds, max_seconds=60.0)
        self._quiet_frames = round(quiet_seconds / FRAME_SECONDS)
        self._left = round(max_seconds / FRAME_SECONDS)

    def feed(self, frame: Frame) -> bool:
        """Whether it is over: after its beep, after silence, or because it has taken too long."""
        self._left -= 1
        tone = self._tone.feed(frame)
        if self._toned and not tone:
            return True
        self._toned |= tone
        heard = self._listener.feed(frame)
        self._quiet = 0 if self._listener.speaking else self._quiet + 1
        return isinstance(heard, Utterance) or self._quiet >= self._quiet_frames or self._left <= 0
