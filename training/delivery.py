"""How unevenly an utterance is said.

The synthesizer gives every vowel its level by its stress and holds it, with formants that stand
still. People do not: a phrase dies away, one syllable is thrown, the next is swallowed, a hiss is
loud today and faint tomorrow, and mouth and pitch never rest.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from fond_echo.core.synthesis.segments import Segment
from fond_echo.core.synthesis.tracks import FRAMES_PER_SECOND, Tracks, smoothed

Rng = np.random.Generator
Track = npt.NDArray[np.float64]


def uneven(tracks: Tracks, segments: Sequence[Segment], rng: Rng) -> Tracks:
    """The same utterance with other levels (of each sound, of the syllables, of the whole), with
    air above 4 kHz in what is voiced, and with formants and pitch that wander."""
    count = len(tracks.voicing)
    voiced, unvoiced = _levels(count, segments, rng)
    said = replace(
        tracks,
        voicing=tracks.voicing * voiced,
        aspiration=tracks.aspiration * voiced,
        frication=tracks.frication * unvoiced,
    )
    return _restless(_airy(said, rng) if rng.random() < 0.65 else said, rng)


def _levels(count: int, segments: Sequence[Segment], rng: Rng) -> tuple[Track, Track]:
    """Factors for what is voiced and for what hisses."""
    each = rng.uniform(0, 5)
    levels, hisses = np.zeros(count), np.zeros(count)
    clock = 0.0
    for segment in segments:
        first, clock = clock, clock + segment.seconds
        here = slice(round(first * FRAMES_PER_SECOND), round(clock * FRAMES_PER_SECOND))
        levels[here] = rng.normal(0, each) if segment.kind != "closure" else 0.0
        hisses[here] = rng.normal(0, each)
    whole = _wandering(count, rng) * rng.uniform(0, 4) + _ends(count, segments, rng)
    voiced = smoothed(levels, rng.uniform(8, 24)) + whole
    return 10 ** (voiced / 20), 10 ** ((smoothed(hisses, 6) + whole) / 20)


def _airy(tracks: Tracks, rng: Rng) -> Tracks:
    """With air in what is voiced: above 4 kHz it is most of what there is."""
    count = len(tracks.voicing)
    level = rng.uniform(-54, -26) + _wandering(count, rng) * rng.uniform(0, 6)
    air = tracks.voicing * 10 ** (level / 20)
    open_ = tracks.noise_gains.max(axis=1) < 1e-3
    colour = 10 ** (rng.uniform(np.array((-40, -40, -30, -18, -12, -12, -30)), 0.0) / 20)
    return replace(
        tracks,
        frication=np.where(open_, tracks.frication + air, tracks.frication),
        noise_gains=np.where(open_[:, None], colour, tracks.noise_gains),
    )


def _restless(tracks: Tracks, rng: Rng) -> Tracks:
    """With formants, bandwidths and pitch that wander."""
    count, formants = tracks.formants.shape
    restless = rng.uniform(0, 0.07)
    paths = np.zeros((count, formants))
    for k in range(3):
        paths[:, k] = _wandering(count, rng) * restless
    looser = np.exp(_wandering(count, rng)[:, None] * rng.uniform(0, 0.35))
    semitones = _wandering(count, rng) * rng.uniform(0, 2.5)
    return replace(
        tracks,
        formants=tracks.formants * np.exp(paths),
        bandwidths=tracks.bandwidths * looser,
        pitch=np.clip(tracks.pitch * 2 ** (semitones / 12), 55, 450),
    )


def _wandering(count: int, rng: Rng) -> Track:
    """A smooth line with a standard deviation of about 1, whose bends are 50 to 250 ms apart."""
    knots = max(2, int(count / FRAMES_PER_SECOND / rng.uniform(0.05, 0.25)))
    line = np.interp(np.arange(count), np.linspace(0, count, knots), rng.normal(0, 1, knots))
    return smoothed(line, 20)


def _ends(count: int, segments: Sequence[Segment], rng: Rng) -> Track:
    """Decibels by which the last of a phrase dies away, and the first begins softly."""
    drop = np.zeros(count)
    said = [k for k, each in enumerate(segments) if each.kind != "silence"]
    if not said:
        return drop
    at = np.arange(count) / FRAMES_PER_SECOND
    times = np.cumsum([0.0, *(each.seconds for each in segments)])
    if rng.random() < 0.7:
        end, span = times[said[-1] + 1], rng.uniform(0.08, 0.6)
        drop -= rng.uniform(3, 24) * np.clip((at - (end - span)) / span, 0, 1) ** rng.uniform(1, 2)
    if rng.random() < 0.4:
        begin, span = times[said[0]], rng.uniform(0.03, 0.2)
        drop -= rng.uniform(3, 15) * np.clip(1 - (at - begin) / span, 0, 1)
    return drop
