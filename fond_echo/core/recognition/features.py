"""Log-mel features: what the network sees of a sound."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.fft import rfft

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.errors import BrokenSound
from fond_echo.core.recognition.symbols import RATE

WINDOW = 400
HOP = 160
POINTS = 512
BANDS = 64
PRE_EMPHASIS = 0.97
LOWEST_HZ, HIGHEST_HZ = 60.0, 7_800.0

Features = npt.NDArray[np.float32]


def _filters() -> Features:
    """Triangular mel filters, shape (257, 64)."""

    def mel(hertz: npt.ArrayLike) -> npt.NDArray[np.float64]:
        return np.asarray(2595 * np.log10(1 + np.asarray(hertz) / 700.0))

    lowest, highest = mel([LOWEST_HZ, HIGHEST_HZ])
    edges = np.linspace(lowest, highest, BANDS + 2)
    edges = 700 * (10 ** (edges / 2595) - 1)
    bins = np.arange(POINTS // 2 + 1) * RATE / POINTS
    low, middle, high = edges[:-2, None], edges[1:-1, None], edges[2:, None]
    rising, falling = (bins - low) / (middle - low), (high - bins) / (high - middle)
    return np.ascontiguousarray(np.maximum(0, np.minimum(rising, falling)).T, np.float32)


_FILTERS = _filters()
_HANN = np.hanning(WINDOW).astype(np.float32)


def log_mel(clip: Clip) -> Features:
    """Features of a clip at 16 kHz, one row every 10 ms, shape (frames, 64).

    The level is taken out: energies relative to the loud part of the clip, and the mean over
    time subtracted in every band. A clip shorter than a window is padded to one.

    Raises:
        BrokenSound: another rate.
    """
    if clip.rate != RATE:
        raise BrokenSound(f"features are made of sound at {RATE} Hz, not {clip.rate}")
    samples = clip.samples
    if len(samples) < WINDOW:
        samples = np.pad(samples, (0, WINDOW - len(samples)))
    samples = np.append(samples[:1], samples[1:] - np.float32(PRE_EMPHASIS) * samples[:-1])
    windows = np.lib.stride_tricks.sliding_window_view(samples, WINDOW)[::HOP] * _HANN
    energies = np.square(np.abs(rfft(windows, POINTS))) @ _FILTERS
    loud = np.percentile(energies.max(axis=1), 95) + 1e-10
    logs = np.log(energies / loud + 1e-6)
    return np.asarray((logs - logs.mean(axis=0)) / 3.0, np.float32)
