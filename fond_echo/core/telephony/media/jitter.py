"""Packets that come unevenly, made into sound that goes on evenly (8 kHz, frames of 20 ms).

The buffer holds back as much as the network's unevenness asks for: it follows how late the latest
packets of the last seconds were. Where a packet is missing when its time comes, the last pitch
periods are repeated and fade; where there is more than needed, a quiet frame is left out.
"""

from __future__ import annotations

import math
from collections import deque

import numpy as np
import numpy.typing as npt

from fond_echo.core.telephony.media.loudness import rms

Frame = npt.NDArray[np.int16]

RATE = 8_000
FRAME = 160
FRAME_SECONDS = FRAME / RATE
MIN_FRAMES, MAX_FRAMES = 1, 15
"""Frames that are held back: 20 to 300 ms."""

REMEMBERED = 150
"""The lateness of so many packets is looked at: three seconds."""

AIMED_EVERY = 5
"""Packets after which it is looked at again."""

LATE_SHARE = 0.99
"""So many of them should be in time."""

FADE = 0.7
"""What a concealed frame keeps of the level of the one before."""

MAX_CONCEALED = 5
"""Then there is silence: 100 ms."""

QUIET = 300.0
"""A frame below this level (RMS in 16 bits) may be left out unheard."""

PITCH_LEAST, PITCH_MOST = 40, 120
"""Of a voice, in samples: 200 to 67 Hz."""


class JitterBuffer:
    """Put in packets as they come; take out a frame every 20 ms."""

    def __init__(self) -> None:
        self._frames: dict[int, Frame] = {}
        self._next: int | None = None
        self._offsets: deque[float] = deque(maxlen=REMEMBERED)
        self._last: deque[Frame] = deque([np.zeros(FRAME, np.int16)] * 3, maxlen=3)
        self._until_aim = 0
        self._concealed = 0
        self._waited = 0
        self._filling = True
        self.target = 2
        self.played = 0
        self.lost = 0
        self.late = 0

    def restart(self) -> None:
        """Another sender begins: what waits is not its sound."""
        self._next, self._filling = None, True
        self._frames.clear()
        self._offsets.clear()

    @property
    def held(self) -> int:
        """Frames that wait."""
        return len(self._frames)

    def put(self, number: int, frame: Frame, arrived: float) -> None:
        """A frame that came.

        Args:
            number: its extended sequence number.
            frame: 160 samples.
            arrived: seconds of a steady clock.
        """
        if self._next is not None and number < self._next - 500:
            self.restart()
        self._offsets.append(arrived - number * FRAME_SECONDS)
        self._until_aim -= 1
        if self._until_aim < 0:
            self._until_aim = AIMED_EVERY
            self._aim()
        if self._next is not None and number < self._next:
            self.late += 1
            return
        self._frames[number] = frame
        if len(self._frames) > 4 * MAX_FRAMES:
            # Far more than can be wanted: the sender's clock ran away.
            for old in sorted(self._frames)[: len(self._frames) - 2 * MAX_FRAMES]:
                del self._frames[old]
            self._next = min(self._frames)

    def _aim(self) -> None:
        """How much is held back, from how late packets were beside the earliest."""
        ordered = sorted(self._offsets)
        late = ordered[min(len(ordered) - 1, int(LATE_SHARE * len(ordered)))] - ordered[0]
        self.target = max(MIN_FRAMES, min(MAX_FRAMES, 1 + math.ceil(late / FRAME_SECONDS - 1e-6)))

    def take(self) -> Frame:
        """The next 20 ms of sound."""
        if self._filling:
            if len(self._frames) < self.target:
                return self._nothing()
            self._filling = False
            self._waited = 0
            self._next = min(self._frames)
        assert self._next is not None
        if len(self._frames) > self.target + 2 and self._may_skip(self._next):
            self._frames.pop(self._next)
            self._next += 1
        if not self._frames:
            # Late or lost, that is not known yet: the time is filled, and the frame waited for.
            self._waited += 1
            self._filling = self._waited > MAX_CONCEALED
            return self._conceal()
        while self._waited and self._next not in self._frames:
            # Others came instead: it was lost, and its time is over.
            self._waited -= 1
            self.lost += 1
            self._next += 1
        self._waited = 0
        frame = self._frames.pop(self._next, None)
        self._next += 1
        if frame is None:
            self.lost += 1
            return self._conceal()
        self.played += 1
        if self._concealed:
            frame = self._joined(frame)
        self._concealed = 0
        self._last.append(frame)
        return frame

    def _may_skip(self, number: int) -> bool:
        frame = self._frames.get(number)
        return frame is not None and rms(frame) < QUIET and number + 1 in self._frames

    def _nothing(self) -> Frame:
        return np.zeros(FRAME, np.int16)

    def _conceal(self) -> Frame:
        """The last pitch periods again, softer each time."""
        self._concealed += 1
        if self._concealed > MAX_CONCEALED:
            return self._nothing()
        last = np.concatenate(self._last)[-PITCH_MOST * 3 :]
        period = _period(last)
        cycle = last[-period:].astype(np.float32)
        start = (self._concealed - 1) * FRAME
        frame = cycle[(start + np.arange(FRAME)) % period]
        gains = FADE ** (self._concealed - 1 + np.arange(FRAME) / FRAME)
        faded: npt.NDArray[np.float64] = frame * gains
        return faded.astype(np.int16)

    def _joined(self, frame: Frame) -> Frame:
        """A frame after a gap, faded in over what was made up, without a click."""
        made = self._conceal().astype(np.float32)
        rise = np.minimum(1.0, np.arange(FRAME) / (FRAME / 2))
        mixed: npt.NDArray[np.float64] = made * (1 - rise) + frame * rise
        return mixed.astype(np.int16)


def _period(samples: Frame) -> int:
    """The pitch period of the end of a sound, by the best match with itself."""
    signal = samples.astype(np.float32)
    end = signal[-PITCH_MOST:]
    best, found = 0.0, PITCH_MOST
    for period in range(PITCH_LEAST, PITCH_MOST + 1):
        before = signal[-PITCH_MOST - period : -period]
        norm = float(np.sqrt((before @ before) * (end @ end))) or 1.0
        match = float(end @ before) / norm
        if match > best + 0.01:
            best, found = match, period
    return found
