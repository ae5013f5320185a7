"""The waveform that a voice note shows: one height a column."""

from __future__ import annotations

import itertools

import numpy as np

from fond_echo.core.audio.clip import Clip

POINTS = 240
"""How many columns are kept with a clip; what shows them asks for fewer (`resized`). It divides
evenly by the numbers of columns that are usual, so that theirs come out exact."""


def heights(clip: Clip, points: int = POINTS) -> list[float]:
    """The largest magnitude in each of `points` equal stretches, the loudest of all being 1.

    Returns:
        `points` floats in 0..1, to three places; zeros for silence or an empty clip.
    """
    if points < 1:
        raise ValueError(f"a waveform has at least one point, not {points}")
    if not len(clip) or clip.peak == 0.0:
        return [0.0] * points
    edges = np.linspace(0, len(clip), points + 1).astype(int)[:-1]
    magnitudes = np.abs(clip.samples)
    tops = np.maximum.reduceat(magnitudes, np.minimum(edges, len(clip) - 1))
    return [round(float(top), 3) for top in tops / clip.peak]


def resized(values: list[float], points: int) -> list[float]:
    """A waveform with another number of columns: the largest of those that fall together."""
    if not values:
        return [0.0] * points
    edges = [int(k * len(values) / points) for k in range(points + 1)]
    return [max(values[a : max(b, a + 1)]) for a, b in itertools.pairwise(edges)]


def scaled(values: list[float], low: int, high: int) -> list[int]:
    """Heights of 0..1 as whole numbers from `low` to `high`, both reached."""
    return [low + round(min(max(value, 0.0), 1.0) * (high - low)) for value in values]
