"""Keys as tones in the sound (ITU-T Q.23, Q.24): heard, and made.

Blocks of 20 ms every 10 ms; three probes a tone, as one matrix product; a key counts after three
blocks that agree. Speech is told from keys by what else is in the block: the two tones must hold
most of its energy, and no other spectral peak may come near them.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from fond_echo.core.audio.clip import Clip

Samples = npt.NDArray[np.float32]

RATE = 8_000
BLOCK, HOP = 160, 80
ROWS = np.array([697.0, 770.0, 852.0, 941.0])
COLUMNS = np.array([1209.0, 1336.0, 1477.0, 1633.0])
KEYS = "123A456B789C*0#D"

PROBES = np.array([-0.013, 0.0, 0.013])
"""How far beside the true frequency it is looked: senders may be off by 1.5 %."""

AGREEING = 3
"""Blocks in a row."""

PURE = 0.70
"""The share of the energy that the two tones must hold."""

ABOVE_OTHERS = 10 ** (6.0 / 10)
"""Each tone over the next of its group."""

TWIST = 10.0
"""One tone over the other, as a power: 10 dB."""

PEAK = 10 ** (-18.5 / 10)
"""The highest other peak, beside both tones together."""

FULL = 32_124 * 10 ** (-3.17 / 20)
"""The amplitude of a sine of 0 dBm0 in 16 bits (ITU-T G.711 §4)."""

MIN_POWER = FULL * FULL / 2 * 10 ** (-31.0 / 10)
"""The least power of both tones: −31 dBm0."""

_TONES = np.concatenate([ROWS, COLUMNS])
_ANGLES = 2 * np.pi * (_TONES[:, None] * (1 + PROBES)).ravel() / RATE * np.arange(BLOCK)[:, None]
_BASIS = np.concatenate([np.cos(_ANGLES), np.sin(_ANGLES)], axis=1).astype(np.float32)
_WINDOW = np.hanning(BLOCK + 1)[:BLOCK].astype(np.float32)
_BINS = np.arange(BLOCK // 2 + 1) * (RATE / BLOCK)


def keys_in_blocks(blocks: Samples) -> npt.NDArray[np.int8]:
    """The key in each block, as its place in KEYS, or −1.

    Args:
        blocks: shape (count, 160), 8 kHz, in units of 16 bits.
    """
    probes = len(_TONES) * len(PROBES)
    product = blocks @ _BASIS
    power = (product[:, :probes] ** 2 + product[:, probes:] ** 2) * (2.0 / BLOCK / BLOCK)
    energy = np.einsum("ij,ij->i", blocks, blocks) / BLOCK + 1e-3
    tones = power.reshape(len(blocks), len(_TONES), len(PROBES)).max(axis=2)
    rows, columns = tones[:, :4], tones[:, 4:]
    row, column = rows.argmax(axis=1), columns.argmax(axis=1)
    every = np.arange(len(blocks))
    low, high = rows[every, row], columns[every, column]
    both = low + high
    found = (
        (both > PURE * energy)
        & (both > MIN_POWER)
        & (low > MIN_POWER / 10)
        & (high > MIN_POWER / 10)
    )
    found &= (low > ABOVE_OTHERS * np.partition(rows, 2, axis=1)[:, 2]) & (
        high > ABOVE_OTHERS * np.partition(columns, 2, axis=1)[:, 2]
    )
    found &= (high < low * TWIST) & (low < high * TWIST)
    places = np.nonzero(found)[0]
    if len(places):
        spectrum = np.abs(np.fft.rfft(blocks[places] * _WINDOW, axis=1)) ** 2
        near = np.abs(_BINS - ROWS[row[places], None]) < 130
        near |= np.abs(_BINS - COLUMNS[column[places], None]) < 130
        others = np.where(near, 0.0, spectrum).max(axis=1) / (2 * (BLOCK * 0.25) ** 2)
        found[places] = others < both[places] * PEAK
    return np.where(found, row * 4 + column, -1).astype(np.int8)


class ToneReceiver:
    """Fed sound in pieces of any length; gives each key once, when it has been heard for three
    blocks."""

    def __init__(self) -> None:
        self._kept = np.zeros(0, np.float32)
        self._key = -1
        self._run = 0
        self._held = -1
        self._missed = 0

    def feed(self, samples: npt.NDArray[np.int16]) -> list[str]:
        """The keys that were recognised with this.

        Args:
            samples: 8 kHz.
        """
        self._kept = np.concatenate([self._kept, samples.astype(np.float32)])
        count = (len(self._kept) - BLOCK) // HOP + 1
        if count <= 0:
            return []
        windows = np.lib.stride_tricks.sliding_window_view(self._kept, BLOCK)[: count * HOP : HOP]
        keys = keys_in_blocks(np.ascontiguousarray(windows))
        self._kept = self._kept[count * HOP :]
        return [KEYS[key] for key in keys.tolist() if self._began(key)]

    def _began(self, key: int) -> bool:
        self._run = self._run + 1 if key == self._key else 1
        self._key = key
        if self._held >= 0:
            self._missed = 0 if key == self._held else self._missed + 1
            if self._missed >= 2:
                self._held = -1
        if self._held < 0 and key >= 0 and self._run >= AGREEING:
            self._held, self._missed = key, 0
            return True
        return False


def tone(key: str, seconds: float, decibels: float = -9.0) -> npt.NDArray[np.int16]:
    """A key as sound: two sines, each of a level in dBm0."""
    place = KEYS.index(key)
    time = np.arange(round(seconds * RATE)) / RATE
    both = np.sin(2 * np.pi * ROWS[place // 4] * time) + np.sin(
        2 * np.pi * COLUMNS[place % 4] * time
    )
    whole: npt.NDArray[np.float64] = np.clip(FULL * 10 ** (decibels / 20) * both, -32_768, 32_767)
    return whole.astype(np.int16)


def waiting() -> Clip:
    """Two soft sounds, from time to time while somebody is called: the line is not dead."""
    sound = beep(0.12, 440.0).samples * np.float32(0.3)
    gap = np.zeros(round(0.1 * RATE), np.float32)
    return Clip(np.concatenate([sound, gap, sound]), RATE)


def beep(seconds: float = 0.25, frequency: float = 880.0) -> Clip:
    """The sound after which one speaks."""
    times = np.arange(round(seconds * RATE)) / RATE
    fade = np.minimum(1.0, np.minimum(times, seconds - times) / 0.01)
    return Clip((0.25 * fade * np.sin(2 * np.pi * frequency * times)).astype(np.float32), RATE)
