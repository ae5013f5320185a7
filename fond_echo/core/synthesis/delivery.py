"""How a voice delivers a phrase: levels that die away, air above 4 kHz in what is voiced, formants
and pitch that never rest. What training makes much of, served voices have a little of."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from fond_echo.core.synthesis.segments import Segment
from fond_echo.core.synthesis.speaker import Speaker
from fond_echo.core.synthesis.tracks import FRAMES_PER_SECOND, Track, Tracks, smoothed

Rng = np.random.Generator

AIR_COLOUR = 10 ** (np.array((-40.0, -36.0, -28.0, -12.0, -8.0, -8.0, -24.0)) / 20)
"""Levels of air in the seven noise resonators: most of it lies above 4 kHz."""

END_SECONDS, END_DECIBELS = 0.28, 7.0
SYLLABLE_DECIBELS = 1.2
FORMANT_WANDER = 0.018
"""Standard deviation of what formants move while they are held."""

PITCH_WANDER = 0.35
"""Semitones."""


def delivered(tracks: Tracks, segments: Sequence[Segment], speaker: Speaker, rng: Rng) -> Tracks:
    """Tracks of a phrase as a speaker delivers it.

    Args:
        rng: draws what varies.
    """
    count = len(tracks.voicing)
    level = _levels(count, segments, rng)
    gain = 10 ** (level / 20)
    air = tracks.voicing * gain * speaker.air
    quiet = tracks.noise_gains.max(axis=1) < 1e-3
    paths = np.stack(
        [_wandering(count, rng) if k < 3 else np.zeros(count) for k in range(7)], axis=1
    )
    return replace(
        tracks,
        voicing=tracks.voicing * gain,
        aspiration=tracks.aspiration * gain,
        frication=np.where(quiet, tracks.frication + air, tracks.frication),
        noise_gains=np.where(quiet[:, None], AIR_COLOUR, tracks.noise_gains),
        formants=tracks.formants * np.exp(FORMANT_WANDER * paths),
        pitch=np.clip(tracks.pitch * 2 ** (PITCH_WANDER * _wandering(count, rng) / 12), 40, 600),
    )


def _levels(count: int, segments: Sequence[Segment], rng: Rng) -> Track:
    """Decibels by syllable, and the fall at the end of the phrase."""
    level = np.zeros(count)
    clock = 0.0
    for segment in segments:
        first, clock = clock, clock + segment.seconds
        if segment.kind == "vowel":
            begin, end = (round(t * FRAMES_PER_SECOND) for t in (first, clock))
            level[begin:end] = rng.normal(0, SYLLABLE_DECIBELS)
    level = smoothed(level, 24)
    said = [k for k, each in enumerate(segments) if each.kind != "silence"]
    if said:
        times = np.cumsum([0.0, *(each.seconds for each in segments)])
        last = float(times[said[-1] + 1])
        at = np.arange(count) / FRAMES_PER_SECOND
        level -= END_DECIBELS * np.clip((at - (last - END_SECONDS)) / END_SECONDS, 0, 1) ** 1.5
    return level


def _wandering(count: int, rng: Rng) -> Track:
    """A smooth line with a standard deviation of about 1, whose bends are about 150 ms apart."""
    knots = max(2, int(count / FRAMES_PER_SECOND / 0.15))
    line = np.interp(np.arange(count), np.linspace(0, count, knots), rng.normal(0, 1, knots))
    return smoothed(line, 40)
