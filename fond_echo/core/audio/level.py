"""Loudness and gain."""

from __future__ import annotations

import math

import numpy as np

from fond_echo.core.audio.clip import Clip

BLOCK_SECONDS = 0.4
"""One gating block of ITU-R BS.1770-4: shorter sound has no integrated loudness."""

SPEECH_LUFS = -18.0
"""Where spoken replies are brought to: loud enough for a telephone held at arm's length."""

AUDIBLE_DB = -50.0
LEAD_SECONDS = 0.005

SHORT_GAIN_DB = 0.0
PEAK_LIMIT_DB = -1.0


def loudness(clip: Clip) -> float | None:
    """Integrated loudness in LUFS (ITU-R BS.1770-4).

    None where it is not defined: below 400 ms, or nothing above the absolute gate of −70 LUFS.
    """
    if clip.seconds < BLOCK_SECONDS:
        return None
    import pyloudnorm  # with a large library behind it

    value = float(pyloudnorm.Meter(clip.rate).integrated_loudness(clip.samples.astype(np.float64)))
    return value if math.isfinite(value) else None


def gain(clip: Clip, decibels: float) -> Clip:
    """The clip made louder or softer; nothing is limited."""
    return Clip(clip.samples * np.float32(10.0 ** (decibels / 20.0)), clip.rate)


def from_first_sound(clip: Clip) -> Clip:
    """The clip from 5 ms before its first sample above −50 dB of full scale; as it is where there
    is none."""
    loud = np.abs(clip.samples) > 10.0 ** (AUDIBLE_DB / 20.0)
    first = int(loud.argmax()) if loud.any() else 0
    return Clip(clip.samples[max(0, first - round(LEAD_SECONDS * clip.rate)) :], clip.rate)


def normalized(
    clip: Clip,
    target: float = SPEECH_LUFS,
    short_gain: float = SHORT_GAIN_DB,
    peak_limit: float = PEAK_LIMIT_DB,
) -> Clip:
    """The clip brought to a loudness, as far as its peak allows.

    Args:
        target: LUFS.
        short_gain: dB, used as it is where loudness is not defined (below 400 ms).
        peak_limit: dB of full scale that no sample may exceed; the gain is lowered to keep it.
    """
    measured = loudness(clip)
    wanted = short_gain if measured is None else target - measured
    if clip.peak > 0.0:
        wanted = min(wanted, peak_limit - 20.0 * math.log10(clip.peak))
    return gain(clip, wanted)
