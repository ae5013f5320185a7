"""Log-mel features: what the network sees of a sound, the same whether it comes whole or in pieces.

`log_mel` gives bare logarithms of energies. `Normalizer` takes the level and the colour of the line
out of them as they come: a running peak and a running mean per band, each looking a fifth of a
second ahead, so that a sound that is fed 20 ms at a time gives the very same numbers as a file.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit
from scipy.fft import rfft

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.errors import BrokenSound
from fond_echo.core.recognition.symbols import RATE

WINDOW = 400
HOP = 160
POINTS = 512
BANDS = 64
PRE_EMPHASIS = 0.97
MIN_HZ, MAX_HZ = 60.0, 7_800.0
SILENT = 1e-9
"""Added to energies: about the rounding of 16-bit samples."""

AHEAD = 20
"""Frames that levelling looks ahead."""

DEPTH = 13.8
"""How far below the running peak a band still counts, as a natural logarithm (60 dB)."""

FADE = 0.998
"""How much of the mean a frame keeps: half of it is forgotten in three and a half seconds."""

PEAK_FADE = 0.005
PRIOR_FRAMES = 30.0
PRIOR = -6.0
"""Before anything was heard, the mean lies so far below the peak, as strongly as so many frames."""

SCALE = 3.0

UNKNOWN_PEAK = -1e9
"""Before anything was heard."""

Features = npt.NDArray[np.float32]


def _filters() -> Features:
    """Triangular mel filters, shape (257, 64)."""

    def mel(hertz: npt.ArrayLike) -> npt.NDArray[np.float64]:
        return np.asarray(2595 * np.log10(1 + np.asarray(hertz) / 700.0))

    lowest, highest = mel([MIN_HZ, MAX_HZ])
    edges = np.linspace(lowest, highest, BANDS + 2)
    edges = 700 * (10 ** (edges / 2595) - 1)
    bins = np.arange(POINTS // 2 + 1) * RATE / POINTS
    low, middle, high = edges[:-2, None], edges[1:-1, None], edges[2:, None]
    rising, falling = (bins - low) / (middle - low), (high - bins) / (high - middle)
    return np.ascontiguousarray(np.maximum(0, np.minimum(rising, falling)).T, np.float32)


_FILTERS = _filters()
_HANN = np.hanning(WINDOW).astype(np.float32)


def log_mel(clip: Clip) -> Features:
    """Logarithms of the energies of a clip at 16 kHz, one row every 10 ms, shape (frames, 64).

    A clip shorter than a window is padded to one.

    Raises:
        BrokenSound: another rate.
    """
    if clip.rate != RATE:
        raise BrokenSound(f"features are made of sound at {RATE} Hz, not {clip.rate}")
    samples = clip.samples
    if len(samples) < WINDOW:
        samples = np.pad(samples, (0, WINDOW - len(samples)))
    samples = np.append(samples[:1], samples[1:] - np.float32(PRE_EMPHASIS) * samples[:-1])
    return energies(samples)


def energies(emphasised: npt.NDArray[np.float32]) -> Features:
    """Log energies of samples that are pre-emphasised already, at least a window of them."""
    windows = np.lib.stride_tricks.sliding_window_view(emphasised, WINDOW)[::HOP] * _HANN
    powers = np.square(np.abs(rfft(windows, POINTS))) @ _FILTERS
    return np.asarray(np.log(powers + SILENT), np.float32)


def at_length(logs: Features, length: float) -> Features:
    """Log energies as they would be with another length of the vocal tract: bands read further up,
    by linear interpolation, where it is longer than 1."""
    places = np.clip(np.arange(BANDS, dtype=np.float32) * np.float32(length), 0, BANDS - 1)
    low = places.astype(int)
    part = places - low
    above = logs[:, np.minimum(low + 1, BANDS - 1)]
    return np.asarray(logs[:, low] * (1 - part) + above * part, np.float32)


class Normalizer:
    """Takes level and colour out of log energies, in order, with `AHEAD` frames of delay.

    Args:
        peak: the loudest energy of what will come, where it is known: then what is quiet before the
            first word does not count as speech.
    """

    def __init__(self, peak: float = UNKNOWN_PEAK) -> None:
        self._waiting = np.zeros((0, BANDS), np.float32)
        self._state = np.zeros(BANDS + 2)
        self._state[0] = peak

    @property
    def held(self) -> int:
        """Frames that wait for those after them."""
        return len(self._waiting)

    def feed(self, logs: Features, *, last: bool = False) -> Features:
        """The next frames, shape (n, 64); gives those that are ready, all of them at the last."""
        waiting = np.concatenate([self._waiting, logs]) if len(self._waiting) else logs
        ready = len(waiting) if last else max(0, len(waiting) - AHEAD)
        fresh = len(waiting) - len(logs)
        out: Features = _level(np.ascontiguousarray(waiting), ready, fresh, self._state)
        self._waiting = waiting[ready:]
        return out


def normalized(logs: Features) -> Features:
    """All frames of a sound at once, whose loudest is known from its beginning."""
    return Normalizer(float(logs.max(initial=UNKNOWN_PEAK))).feed(logs, last=True)


@njit(cache=True)
def _counted(frame, peak, weight, sums):  # type: ignore[no-untyped-def]  # compiled
    """A frame taken into the running peak, weight and sums, which are changed; gives the others."""
    top = frame.max()
    peak = max(top, peak - PEAK_FADE)
    share = 1.0 if top > peak - 7.0 else 0.1
    for b in range(frame.shape[0]):
        sums[b] = sums[b] * FADE + share * np.logaddexp(frame[b], peak - DEPTH)
    return peak, weight * FADE + share


@njit(cache=True)
def _level(waiting, ready, fresh, state):  # type: ignore[no-untyped-def]  # compiled
    """`state`: the running peak, the weight and the weighted sum per band. The first `fresh` frames
    were counted before."""
    count, bands = waiting.shape
    out = np.empty((ready, bands), np.float32)
    peak, weight, sums = state[0], state[1], state[2:]
    done = fresh
    for t in range(ready):
        # Everything up to AHEAD frames after this one counts.
        while done < min(count, t + AHEAD + 1):
            peak, weight = _counted(waiting[done], peak, weight, sums)
            done += 1
        for b in range(bands):
            mean = (sums[b] + PRIOR_FRAMES * (peak + PRIOR)) / (weight + PRIOR_FRAMES)
            out[t, b] = (np.logaddexp(waiting[t, b], peak - DEPTH) - mean) / SCALE
    while done < count:
        peak, weight = _counted(waiting[done], peak, weight, sums)
        done += 1
    state[0], state[1] = peak, weight
    return out
