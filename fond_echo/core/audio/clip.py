"""A clip: mono sound in memory, the one shape that every computation takes and gives."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from fond_echo.core.audio.errors import BrokenSound

Samples = npt.NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Clip:
    """Mono sound.

    Attributes:
        samples: float32, shape (length,), full scale at ±1. May be empty: a clip that must not
            be is checked where that matters, with `EmptySound`.
        rate: samples per second, 1,000 to 768,000.

    Raises:
        BrokenSound: samples that are not mono, not finite, or a rate out of range.
    """

    samples: Samples
    rate: int

    def __post_init__(self) -> None:
        if self.samples.ndim != 1:
            raise BrokenSound(
                f"a clip is mono, but the samples have shape {self.samples.shape}",
                remedy="average the channels first",
            )
        if not 1_000 <= self.rate <= 768_000:
            raise BrokenSound(f"{self.rate} samples per second is outside 1,000 to 768,000")
        if self.samples.dtype != np.float32:
            object.__setattr__(self, "samples", self.samples.astype(np.float32))
        if not np.isfinite(self.samples).all():
            raise BrokenSound("the sound holds values that are not finite numbers")

    def __len__(self) -> int:
        return len(self.samples)

    @property
    def seconds(self) -> float:
        return len(self.samples) / self.rate

    @property
    def peak(self) -> float:
        """The largest magnitude, 0.0 for an empty clip."""
        return float(np.abs(self.samples).max()) if len(self.samples) else 0.0

    def part(self, start: float, end: float) -> Clip:
        """The sound between two times in seconds, cut to what there is."""
        first = max(0, round(start * self.rate))
        return Clip(self.samples[first : max(first, round(end * self.rate))], self.rate)


def silence(seconds: float, rate: int) -> Clip:
    """A clip of zeros."""
    return Clip(np.zeros(round(seconds * rate), np.float32), rate)


def join(clips: list[Clip]) -> Clip:
    """Clips of one rate, one after another.

    Raises:
        BrokenSound: no clips, or rates that differ.
    """
    if not clips:
        raise BrokenSound("there are no clips to join")
    rates = sorted({clip.rate for clip in clips})
    if len(rates) > 1:
        raise BrokenSound(f"clips of different rates cannot be joined: {rates}")
    return Clip(np.concatenate([clip.samples for clip in clips]), rates[0])
