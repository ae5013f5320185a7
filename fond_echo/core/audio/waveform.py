"""The waveform that a voice note shows: one height a column."""

from __future__ import annotations

import numpy as np

from fond_echo.core.audio.clip import Clip

POINTS = 240
"""How many columns are kept with a clip; what shows them asks for fewer (`columns.resized`). It
divides evenly by the numbers of columns that are usual, so that theirs come out exact."""


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
