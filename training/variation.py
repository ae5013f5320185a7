"""An example varied once more each time it is read, as log energies.

A shard holds every utterance once. What costs little to change is changed here: the length of the
vocal tract, the pace, noise, the colour of the line, how sharp the spectrum is in frequency and in
time, and what of it is missing.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from fond_echo.core.recognition.features import BANDS, UNKNOWN_PEAK, Normalizer

Array = npt.NDArray[np.float32]
Rng = np.random.Generator

FRAMES_A_SYMBOL = 3.3
"""What has fewer cannot be aligned."""

PLAIN = 0.45
"""How often an example is not varied but for noise and colour."""

TRACTS = (0.66, 1.14)
"""Lengths of the vocal tract. Where they began at 0.76, people who squeak were read better at 1.1
of their length than as they were: too few in training were as short."""

PACES = (0.87, 1.42)


def varied(
    energies: npt.NDArray[np.float16],
    labels: npt.NDArray[np.generic],
    sounds: int,
    noises: Sequence[npt.NDArray[np.float16]],
    others: Sequence[npt.NDArray[np.float16]],
    rng: Rng,
) -> tuple[Array, npt.NDArray[np.int64]]:
    """Features, shape (frames, 64), and the label of each frame. Some stay as they are but for
    noise: what is always spoiled in ten ways is never heard well in one.

    Args:
        energies: bare logarithms, shape (frames, 64).
        sounds: how many phonemes there are; none where nothing is said.
        noises: energies of what may lie under it.
        others: energies of what others say, many of whom may talk under it at the same time.
    """
    logs = energies.astype(np.float32)
    plain = rng.random() < PLAIN
    if not plain:
        logs, labels = _spoiled(logs, labels, sounds, rng)
    if rng.random() < (0.6 if plain else 0.5) and sounds:
        if others and rng.random() < 0.5:
            logs = _with_noise(logs, _babble(others, len(logs), rng), rng)
        elif noises:
            logs = _with_noise(logs, _laid(noises[rng.integers(len(noises))], len(logs), rng), rng)
    if rng.random() < 0.4:
        bends = np.interp(np.arange(BANDS), np.linspace(0, BANDS, 7), rng.normal(0, 1.0, 7))
        logs = logs + bends.astype(np.float32)
    # A whole clip's loudest is known from its beginning, a sound's that goes on is not.
    peak = float(logs.max()) if rng.random() < 0.7 else UNKNOWN_PEAK
    found = Normalizer(peak).feed(np.ascontiguousarray(logs, np.float32), last=True)
    if not plain or rng.random() < 0.3:
        _blank(found, rng)
    return found, labels.astype(np.int64)


def _spoiled(
    logs: Array, labels: npt.NDArray[np.generic], sounds: int, rng: Rng
) -> tuple[Array, npt.NDArray[np.generic]]:
    """Said by somebody else, elsewhere."""
    if rng.random() < 0.6:
        logs = _stretched(logs, rng)
    if rng.random() < 0.6:
        logs, labels = _paced(logs, labels, sounds, rng)
    if rng.random() < 0.5:
        logs = _moved(logs, rng)
    if rng.random() < 0.5:
        logs = logs + _field(len(logs), 9, rng) * np.float32(rng.uniform(0, 1.1))
    if rng.random() < 0.25:
        logs = _narrowed(logs, rng)
    if rng.random() < 0.3:
        logs = _sharpened(logs, rng) if rng.random() < 0.5 else _blurred(logs, rng)
    return logs, labels


def _with_noise(logs: Array, other: Array, rng: Rng) -> Array:
    """Other energies under these, 1 to 22 dB below where both are loud."""
    below = np.percentile(logs.max(axis=1), 90) - np.percentile(other.max(axis=1), 90)
    return np.logaddexp(logs, other + below - rng.uniform(0.3, 5.0))


def _laid(other: npt.NDArray[np.float16], count: int, rng: Rng) -> Array:
    """Somewhere out of other energies, over and over until there are so many frames."""
    rows = np.roll(other, int(rng.integers(len(other))), axis=0)
    return np.resize(rows, (count, BANDS)).astype(np.float32)


def _babble(others: Sequence[npt.NDArray[np.float16]], count: int, rng: Rng) -> Array:
    """Three to nine people who talk at the same time, at levels within nine decibels."""
    whole = np.full((count, BANDS), -40.0, np.float32)
    for _ in range(rng.integers(3, 10)):
        one = _laid(others[rng.integers(len(others))], count, rng)
        level = np.percentile(one.max(axis=1), 90) + rng.uniform(0, 2)
        whole = np.logaddexp(whole, one - np.float32(level))
    return whole


def _blank(found: Array, rng: Rng) -> None:
    """Some bands, and some moments, are missing."""
    for _ in range(3):
        width = rng.integers(0, 11)
        start = rng.integers(0, BANDS - width)
        found[:, start : start + width] = 0
    for _ in range(2):
        width = rng.integers(0, max(1, min(14, len(found) // 8)))
        start = rng.integers(0, max(1, len(found) - width))
        found[start : start + width] = 0


def _stretched(logs: Array, rng: Rng) -> Array:
    """The bands read at other places: another length of the vocal tract, not quite uniform."""
    factor, bend = rng.uniform(*TRACTS), rng.normal(0, 1.0)
    places = np.arange(BANDS)
    at = np.clip(places * factor + bend * np.sin(np.pi * places / BANDS), 0, BANDS - 1)
    return _between(logs.T, at).T


def _paced(
    logs: Array, labels: npt.NDArray[np.generic], sounds: int, rng: Rng
) -> tuple[Array, npt.NDArray[np.generic]]:
    """Slower or faster, here more and there less, unless too little would be left for what is
    said."""
    count = len(logs)
    knots = max(2, int(count / rng.uniform(8, 40)))
    spread = rng.uniform(0, 0.35)
    uneven = np.interp(np.arange(count), np.linspace(0, count, knots), rng.normal(0, spread, knots))
    lasts = np.exp(np.clip(uneven, -0.5, 0.9)) / rng.uniform(*PACES)
    ends = np.cumsum(lasts)
    if sounds * FRAMES_A_SYMBOL >= ends[-1]:
        return logs, labels
    at = np.interp(np.arange(int(ends[-1])), ends, np.arange(count))
    return _between(logs, at), labels[at.astype(int)]


def _field(count: int, knots: int, rng: Rng) -> Array:
    """A smooth random surface over frames and bands with a standard deviation of about 1, whose
    bends are 60 to 300 ms apart."""
    times = max(2, int(count / rng.uniform(6, 30)))
    grid = rng.normal(0, 1, (times, knots))
    along = _between(grid.astype(np.float32), np.linspace(0, times - 1, count))
    return _between(along.T, np.linspace(0, knots - 1, BANDS)).T


def _moved(logs: Array, rng: Rng) -> Array:
    """The bands read a little elsewhere in every frame: formants that are not where they should
    be, each by itself."""
    shift = _field(len(logs), 8, rng) * np.float32(rng.uniform(0, 1.4))
    at = np.clip(np.arange(BANDS) + shift, 0, BANDS - 1)
    low = at.astype(int)
    part = (at - low).astype(np.float32)
    rows = np.arange(len(logs))[:, None]
    return logs[rows, low] * (1 - part) + logs[rows, np.minimum(low + 1, BANDS - 1)] * part


def _narrowed(logs: Array, rng: Rng) -> Array:
    """Nothing above a band, as recorders and codecs leave it: the quiet of the recording there."""
    edge = rng.integers(36, BANDS)
    slope = np.clip(np.arange(BANDS) - edge, 0, None) * rng.uniform(1.0, 6.0)
    floor = np.percentile(logs[:, edge:], 2) - rng.uniform(0, 4)
    return np.logaddexp(logs - slope, floor).astype(np.float32)


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
