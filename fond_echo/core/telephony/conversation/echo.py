"""How much of what comes in is our own sound, returned (8 kHz, frames of 20 ms, no look-ahead).

What was sent in the last 0.7 s is taken to come back in each of 12 bands as a sum: so much of it
for every delay. These shares are learned while we play, as what is expected to be heard is held
against what is heard: in power, not in waves, so that a room, a codec or a loudspeaker that
saturates, and a delay that changes, are all the same. A telephone's own echo paths are in ITU-T
G.168; the rule of learning is the multiplicative one of Lee and Seung (2001), one frame at a time.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit
from scipy import fft

from fond_echo.core.telephony.media.loudness import rms

Floats = npt.NDArray[np.float32]

FRAME, WINDOW = 160, 320
LAGS = 34
"""Delays that are known, in frames: 0 to 660 ms."""

EDGES = (250, 400, 550, 700, 900, 1100, 1350, 1600, 1900, 2250, 2650, 3050, 3450)
_BINS = np.round(np.array(EDGES) / 8_000 * WINDOW).astype(np.int64)
BANDS = len(_BINS) - 1

FIRST_SHARE = 1e-5
"""Of each delay at first: together they are 35 dB below what was sent."""

SOMETHING = 12.0
"""RMS of a frame in which something was sent: silence in A-law is not 0."""

ROWS = 64
"""Frames whose bands are remembered; a power of two, more than `LAGS`."""

RING = 128
"""Frames whose samples are remembered."""

QUIETEST_OF, SMOOTHED = 75, 3
"""Frames in which the quietest is looked for, and those whose mean is taken for one."""


@njit(cache=True, fastmath=True)
def _banded(spectrum, out):  # type: ignore[no-untyped-def]  # compiled
    """Power in bands of a spectrum, windowed (Hann) by its neighbours."""
    for j in range(len(out)):
        power = np.float32(0)
        for k in range(_BINS[j], _BINS[j + 1]):
            z = np.float32(0.5) * spectrum[k] - np.float32(0.25) * (
                spectrum[k - 1] + spectrum[k + 1]
            )
            power += z.real * z.real + z.imag * z.imag
        out[j] = power


@njit(cache=True, fastmath=True)
def _expected(shares, sent, at, out):  # type: ignore[no-untyped-def]  # compiled
    """What should come back now."""
    for j in range(out.shape[0]):
        total = np.float32(0)
        for lag in range(shares.shape[0]):
            total += shares[lag, j] * sent[(at - lag) % ROWS, j]
        out[j] = total


@njit(cache=True, fastmath=True)
def stands_out(got, expected, noise):  # type: ignore[no-untyped-def]  # compiled
    """By how many dB what came lately stands over what is expected, in the mean of the bands.

    Args:
        got, expected: power by frame and band, shape (frames, 12); `noise` by band, of a frame.
    """
    total = np.float32(0)
    for j in range(got.shape[1]):
        a = b = np.float32(got.shape[0]) * noise[j]
        for k in range(got.shape[0]):
            a += got[k, j]
            b += expected[k, j]
        total += min(max(np.float32(10) * np.log10(a / b), np.float32(-5)), np.float32(12))
    return total / np.float32(got.shape[1])


@njit(cache=True, fastmath=True)
def _learned(shares, sent, at, expected, got, noise, up, down, most):  # type: ignore[no-untyped-def]
    """Move each delay's share by what came in place of what was expected: as much as it had
    part in that, and at most by a factor."""
    for j in range(expected.shape[0]):
        whole = expected[j]
        if whole <= np.float32(0):
            continue
        # Noise is no echo: what stands below it says nothing of how little comes back.
        ratio = (got[j] + noise[j]) / (whole + noise[j])
        told = whole / (whole + noise[j])
        step = (up if ratio > 1 else down) * (min(ratio, most) - np.float32(1)) * told
        largest = np.float32(0)
        for lag in range(shares.shape[0]):
            largest = max(largest, shares[lag, j] * sent[(at - lag) % ROWS, j])
        for lag in range(shares.shape[0]):
            part = shares[lag, j] * sent[(at - lag) % ROWS, j] / largest
            shares[lag, j] = min(
                max(shares[lag, j] * (np.float32(1) + step * part), np.float32(1e-8)),
                np.float32(4),
            )


@njit(cache=True, fastmath=True)
def _taken(spectra, at, shares, sent, got, expected, quiet, noise, up, down):  # type: ignore[no-untyped-def]
    """Take frames up to number `at`: spectra of what was sent and what came, shape (2, frames,
    161). All but the last are learned from. The noise is what each band is at its quietest, which
    lies below the mean."""
    count = spectra.shape[1]
    for frame in range(at - count + 1, at + 1):
        i, row = frame - at + count - 1, frame % SMOOTHED
        _banded(spectra[0, i], sent[frame % ROWS])
        _banded(spectra[1, i], got[row])
        if frame >= SMOOTHED:
            for j in range(BANDS):
                quiet[frame % QUIETEST_OF, j] = (got[0, j] + got[1, j] + got[2, j]) / np.float32(3)
        for j in range(BANDS):
            least = quiet[0, j]
            for k in range(1, QUIETEST_OF):
                least = min(least, quiet[k, j])
            noise[j] = min(max(np.float32(2) * least, np.float32(2e4)), np.float32(1e9))
        _expected(shares, sent, frame, expected[row])
        if frame < at:
            _learned(shares, sent, frame, expected[row], got[row], noise, up, down, np.float32(4))


_PAIR = np.array([-1, 0])


class EchoEstimate:
    """Fed frame by frame, with what was sent and what came at the same time.

    Attributes:
        got: power of what came, by band, in the last frames, shape (3, 12); `expected` of our
            sound in it, `noise` of the line in one frame, shape (12,).
        active: frames in which something of ours may have come back so far.
        sounding: something of ours may come back now.
        waiting: frames that are kept and not yet taken.
    """

    def __init__(self) -> None:
        self._shares = np.full((LAGS, BANDS), FIRST_SHARE, np.float32)
        self._sent = np.zeros((ROWS, BANDS), np.float32)
        self._samples = np.zeros((2, RING, FRAME), np.float32)
        self._quiet = np.full((QUIETEST_OF, BANDS), np.inf, np.float32)
        self.waiting = 0
        self.got = np.zeros((SMOOTHED, BANDS), np.float32)
        self.expected = np.zeros((SMOOTHED, BANDS), np.float32)
        self.noise = np.full(BANDS, 2e4, np.float32)
        self.frames = self.active = 0
        self._until = -1

    @property
    def sounding(self) -> bool:
        return self.frames <= self._until

    def keep(self, sent: npt.NDArray[np.int16], got: npt.NDArray[np.int16]) -> None:
        """20 ms of either side. They count once they are taken; in a call nobody has to ask for
        most of them, and they are taken all at once when it matters."""
        self.frames += 1
        place = self.frames % RING
        self._samples[0, place] = sent
        self._samples[1, place] = got
        self.waiting = min(self.waiting + 1, QUIETEST_OF + SMOOTHED)
        if rms(sent) >= SOMETHING:
            self._until = self.frames + LAGS - 1
        self.active += self.sounding

    def take(self, up: float, down: float) -> None:
        """Take all that was kept: from then on the attributes are those of the last frame. From
        those before it is learned, as by `learn`; from the last it is not yet."""
        at, place, count = self.frames, self.frames % RING, self.waiting
        self.waiting = 0
        if count == 1 and place:
            windows = self._samples[:, place - 1 : place + 1].reshape(2, 1, WINDOW)
        else:
            windows = self._windows(np.arange(at - count + 1, at + 1))
        _taken(
            fft.rfft(windows), at, self._shares, self._sent, self.got, self.expected,
            self._quiet, self.noise, np.float32(up), np.float32(down),
        )  # fmt: skip

    def came_in(self, frames: npt.NDArray[np.int64]) -> Floats:
        """40 ms of what came, up to each of these frames, shape (frames, 320)."""
        came: Floats = self._windows(frames)[1]
        return came

    def lately(self, side: int, count: int) -> Floats:
        """Samples of the last frames: 0 what was sent, 1 what came."""
        rows = np.arange(self.frames - count + 1, self.frames + 1)
        samples: Floats = self._samples[side].take(rows, axis=0, mode="wrap").ravel()
        return samples

    def _windows(self, frames: npt.NDArray[np.int64]) -> Floats:
        """Each of these frames and the one before it, shape (2, frames, 320)."""
        pairs: Floats = self._samples.take(frames[:, None] + _PAIR, axis=1, mode="wrap")
        return pairs.reshape((2, len(frames), WINDOW))

    @property
    def most(self) -> float:
        """As much power as could come back of what was sent lately, were all of its delays to fall
        together."""
        return float((self._shares.sum(axis=0) * self._sent.max(axis=0)).sum())

    def learn(self, up: float, down: float, most: float = 4.0) -> None:
        """Take what came for our own sound: shares grow by at most `up` × (`most` − 1) a frame, and
        shrink by at most `down`."""
        if self.sounding:
            row = self.frames % SMOOTHED
            _learned(
                self._shares, self._sent, self.frames, self.expected[row], self.got[row],
                self.noise, np.float32(up), np.float32(down), np.float32(most),
            )  # fmt: skip
