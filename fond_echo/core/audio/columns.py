"""The columns of a waveform, as they are shown."""

from __future__ import annotations

import itertools


def resized(values: list[float], points: int) -> list[float]:
    """A waveform with another number of columns: the largest of those that fall together."""
    if not values:
        return [0.0] * points
    edges = [int(k * len(values) / points) for k in range(points + 1)]
    return [max(values[a : max(b, a + 1)]) for a, b in itertools.pairwise(edges)]


def scaled(values: list[float], low: int, high: int) -> list[int]:
    """Heights of 0..1 as whole numbers from `low` to `high`, both reached."""
    return [low + round(min(max(value, 0.0), 1.0) * (high - low)) for value in values]
