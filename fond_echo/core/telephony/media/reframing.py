"""Packets of any length made into frames of 20 ms (8 kHz).

Most senders put 20 ms into a packet; 10, 30, 40 and 60 ms come too. A packet's place in the sound
follows from its number and the usual length, so that a sender that is silent, and sends nothing,
leaves no gap. Where the length changes, it goes on from where the sound is.
"""

from __future__ import annotations

import numpy as np

from fond_echo.core.telephony.media.jitter import FRAME, Frame

MAX_SAMPLES = 8_000 // 1_000 * 200
"""200 ms: longer packets are nobody's."""

WAITED = 3
"""A frame of which only a part has come is given as it is when so many later ones have begun."""


class Reframer:
    """Put in packets, take out numbered frames."""

    def __init__(self) -> None:
        self._length = FRAME
        self._first_number: int | None = None
        self._last_number = 0
        self._first_sample = 0
        self._end = 0
        self._partial: dict[int, tuple[Frame, int]] = {}

    def put(self, number: int, samples: Frame) -> list[tuple[int, Frame]]:
        """The frames that are whole with a packet, each with its number.

        Args:
            number: the packet's extended sequence number.
            samples: shape (n,); more than 200 ms, or none, is passed over.
        """
        count = len(samples)
        if not 0 < count <= MAX_SAMPLES:
            return []
        if self._first_number is None:
            self._first_number, self._first_sample, self._length = number, number * count, count
        elif count != self._length:
            missing = max(0, number - self._last_number - 1) * count
            self._first_number, self._first_sample = number, self._end + missing
            self._length = count
            self._partial.clear()
        self._last_number = number
        start = self._first_sample + (number - self._first_number) * self._length
        self._end = max(self._end, start + count)
        if start % FRAME == 0 and count == FRAME:
            return [(start // FRAME, samples)]
        return self._laid(start, samples)

    def _laid(self, start: int, samples: Frame) -> list[tuple[int, Frame]]:
        found = []
        at = 0
        while at < len(samples):
            frame, offset = divmod(start + at, FRAME)
            part = samples[at : at + FRAME - offset]
            at += len(part)
            whole, filled = self._partial.pop(frame, (np.zeros(FRAME, np.int16), 0))
            whole[offset : offset + len(part)] = part
            if filled + len(part) >= FRAME:
                found.append((frame, whole))
            else:
                self._partial[frame] = whole, filled + len(part)
        newest = (start + len(samples) - 1) // FRAME
        for old in sorted(each for each in self._partial if each <= newest - WAITED):
            found.append((old, self._partial.pop(old)[0]))
        return found
