"""Change of sampling rate."""

from __future__ import annotations

import numpy as np
import soxr

from fond_echo.core.audio.clip import Clip


def at_rate(clip: Clip, rate: int) -> Clip:
    """The same sound at another rate, by band-limited interpolation.

    The length is rounded to the nearest sample of the new rate, so that a change of rate never
    makes a sound longer or shorter by more than half a sample.
    """
    if clip.rate == rate:
        return clip
    wanted = round(len(clip) * rate / clip.rate)
    if not len(clip):
        return Clip(clip.samples, rate)
    samples = soxr.resample(clip.samples, clip.rate, rate, quality="HQ").astype(np.float32)
    if len(samples) < wanted:
        samples = np.pad(samples, (0, wanted - len(samples)))
    return Clip(samples[:wanted], rate)
