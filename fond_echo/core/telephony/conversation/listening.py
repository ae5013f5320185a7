"""Hearing in a call when somebody begins to speak and when they have done (8 kHz, frames of 20 ms).

The line's own noise is what it is at its quietest within a second and a half: between syllables
speech lets it through. Speech is what stands out of it for a while.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from fond_echo.core.telephony.media.loudness import rms

Frame = npt.NDArray[np.int16]

FRAME_SECONDS = 0.02
FLOOR = 40.0
"""RMS in 16 bits: nothing quieter counts as the line's own noise."""

ABOVE = 3.2
"""Speech is so many times louder than the line: 10 dB."""

BEGUN_OF, BEGUN = 8, 5
"""Speech has begun when so many of the last frames were loud."""

BEFORE = 15
"""Frames that are kept from before it had begun: 300 ms."""

AROUND_SECONDS = 2 * BEFORE * FRAME_SECONDS
"""What is kept of the silence before and after what was said."""

QUIETEST_OF = 75
"""Frames in which the quietest is looked for."""

EARLY, PAUSE = 6, 12
"""Frames of silence after which it is worth beginning to read, 120 ms, and after which it may be
the end, 240 ms."""

SMOOTHED = 3
"""The mean of so many frames is taken for the level."""


@dataclass(frozen=True)
class Began:
    """Somebody begins to speak."""


@dataclass(frozen=True)
class Paused:
    """What was said up to a pause that may be the end; pauses are counted. One that lasts comes
    twice, under the same number: when it is worth beginning to read, and when it may be the end."""

    samples: Frame
    number: int


@dataclass(frozen=True)
class Utterance:
    """What was said, whole: samples at 8 kHz. `cut` where it did not end by itself."""

    samples: Frame
    truncated: bool = False


class Listener:
    """Fed frame by frame.

    Args:
        end_seconds: silence that ends what is said.
        max_seconds: what is said is cut there.

    Attributes:
        least: RMS under which nobody begins to speak.
    """

    def __init__(self, *, end_seconds: float = 0.7, max_seconds: float = 20.0) -> None:
        self._end = round(end_seconds / FRAME_SECONDS)
        self._longest = round(max_seconds / FRAME_SECONDS)
        self.noise = self.least = FLOOR
        self.speaking = False
        self.pauses = 0
        self._lately: deque[float] = deque(maxlen=SMOOTHED)
        self._levels: deque[float] = deque(maxlen=QUIETEST_OF - SMOOTHED + 1)
        self.reset()

    def reset(self) -> None:
        """Forget what was said so far; the line's level is kept."""
        self.speaking = False
        self._loud: deque[bool] = deque(maxlen=BEGUN_OF)
        self._kept: list[Frame] = []
        self._quiet = self._handed = 0

    def feed(self, frame: Frame, begins: bool | None = None) -> Began | Paused | Utterance | None:
        """A frame that was heard; while we speak, `begins` says whether somebody else does."""
        level = rms(frame)
        self._lately.append(level)
        mean = sum(self._lately) / len(self._lately)
        if len(self._lately) == SMOOTHED:
            self._levels.append(mean)
        self.noise = max(FLOOR, min(self._levels, default=mean))
        loud = level > ABOVE * self.noise
        self._kept.append(frame)
        if not self.speaking:
            self._loud.append(loud and level > self.least)
            if begins if begins is not None else sum(self._loud) >= BEGUN:
                self.speaking, self._quiet = True, 0
                return Began()
            del self._kept[: -BEFORE - BEGUN_OF]
            return None
        self._quiet = 0 if loud else self._quiet + 1
        if self._quiet >= self._end or len(self._kept) >= self._longest:
            cut = self._quiet < self._end
            # A little of the silence is kept: words end softly.
            spare = max(0, self._quiet - BEFORE)
            frames = self._kept[: len(self._kept) - spare] if spare else self._kept
            samples = np.concatenate(frames)
            self.reset()
            return Utterance(samples, cut)
        if self._quiet in (EARLY, PAUSE):
            self.pauses += self._quiet == EARLY
            return Paused(np.concatenate(self._kept), self.pauses)
        return None

    @property
    def said_seconds(self) -> float:
        """How long somebody has been speaking; 0 where nobody is."""
        return (len(self._kept) - self._quiet) * FRAME_SECONDS if self.speaking else 0.0

    def fresh(self) -> tuple[Frame, bool] | None:
        """What was said since this was called last, and whether it begins here; None where nobody
        is speaking or nothing is new."""
        if not self.speaking or len(self._kept) == self._handed:
            return None
        begins, frames = self._handed == 0, self._kept[self._handed :]
        self._handed = len(self._kept)
        return np.concatenate(frames), begins

    def still_at(self, pause: int) -> bool:
        """Whether nothing was said since a pause, and it may be the end."""
        return self.speaking and self.pauses == pause and self._quiet >= PAUSE

    def finish(self) -> Utterance | None:
        """What was said up to now; None where nobody is speaking."""
        if not self.speaking:
            return None
        samples = np.concatenate(self._kept)
        self.reset()
        return Utterance(samples, truncated=True)
