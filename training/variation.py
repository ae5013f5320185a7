"""An example varied once more each time it is read, as log energies.

A shard holds every utterance once. What costs little to change is changed here: the length of the
vocal tract, the pace, noise, the colour of the line, how sharp the spectrum is in frequency and in
time, and what of it is missing.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from fond_echo.core.recognition.features import BANDS, levelled

Array = npt.NDArray[np.float32]
Rng = np.random.Generator

FRAMES_A_SYMBOL = 3.3
"""What has fewer cannot be aligned."""


def varied(
    energies: npt.NDArray[np.float16],
    labels: npt.NDArray[np.generic],
    sounds: int,
    noises: Sequence[npt.NDArray[np.float16]],
    rng: Rng,
) -> tuple[Array, npt.NDArray[np.int64]]:
    """Features, shape (frames, 64), and the label of each frame.

    Args:
        energies: bare logarithms, shape (frames, 64).
        sounds: how many phonemes there are; none where nothing is said.
        noises: energies of what may lie under it.
    """
    logs = energies.astype(np.float32)
    if rng.random() < 0.5:
        logs = _stretched(logs, rng)
    if rng.random() < 0.4:
        logs, labels = _paced(logs, labels, sounds, rng)
    if rng.random() < 0.3:
        logs = _sharpened(logs, rng) if rng.random() < 0.5 else _blurred(logs, rng)
    if rng.random() < 0.35 and noises and sounds:
        other = noises[rng.integers(len(noises))].astype(np.float32)
        other = np.roll(np.resize(other, logs.shape), rng.integers(len(logs)), axis=0)
        below = np.percentile(logs.max(axis=1), 90) - np.percentile(other.max(axis=1), 90)
        logs = np.logaddexp(logs, other + below - rng.uniform(0.5, 6.0))
    if rng.random() < 0.4:
        bends = np.interp(np.arange(BANDS), np.linspace(0, BANDS, 7), rng.normal(0, 1.0, 7))
        logs = logs + bends.astype(np.float32)
    found = levelled(np.ascontiguousarray(logs, np.float32))
    for _ in range(3):
        width = rng.integers(0, 11)
        start = rng.integers(0, BANDS - width)
        found[:, start : start + width] = 0
    for _ in range(2):
        width = rng.integers(0, max(1, min(14, len(found) // 8)))
        start = rng.integers(0, max(1, len(found) - width))
        found[start : start + width] = 0
    return found, labels.astype(np.int64)


def _stretched(logs: Array, rng: Rng) -> Array:
    """The bands read at other places: another length of the vocal tract, not quite uniform."""
    factor, bend = rng.uniform(0.86, 1.16), rng.normal(0, 1.0)
    places = np.arange(BANDS)
    at = np.clip(places * factor + bend * np.sin(np.pi * places / BANDS), 0, BANDS - 1)
    return _between(logs.T, at).T


def _paced(
    logs: Array, labels: npt.NDArray[np.generic], sounds: int, rng: Rng
) -> tuple[Array, npt.NDArray[np.generic]]:
    """Slower or faster, unless too little would be left for what is said."""
    pace = rng.uniform(0.87, 1.18)
    if sounds * FRAMES_A_SYMBOL >= len(logs) / pace:
        return logs, labels
    at = np.minimum(np.arange(int(len(logs) / pace)) * pace, len(logs) - 1)
    return _between(logs, at), labels[at.astype(int)]


def _between(rows: Array, at: npt.NDArray[np.float64]) -> Array:
    """Rows at places between them."""
    low = at.astype(int)
    high = np.minimum(low + 1, len(rows) - 1)
    part = (at - low).astype(np.float32)[:, None]
    return np.asarray(rows[low] * (1 - part) + rows[high] * part, np.float32)


def _neighbours(rows: Array) -> Array:
    """Each row as a weighted mean of itself and those beside it."""
    padded = np.concatenate([rows[:1], rows, rows[-1:]])
    return padded[:-2] * 0.25 + padded[1:-1] * 0.5 + padded[2:] * 0.25


def _blurred(logs: Array, rng: Rng) -> Array:
    """Less sharp, along frequency or along time."""
    powers = np.exp(logs)
    for _ in range(rng.integers(0, 4)):
        powers = _neighbours(powers.T).T
    for _ in range(rng.integers(0, 3)):
        powers = _neighbours(powers)
    return np.log(powers + np.float32(1e-12))


def _sharpened(logs: Array, rng: Rng) -> Array:
    """Peaks and valleys along frequency deeper than they were."""
    smooth = logs.T
    for _ in range(rng.integers(1, 8)):
        smooth = _neighbours(smooth)
    return logs + np.float32(rng.uniform(0.1, 0.9)) * (logs - smooth.T)
