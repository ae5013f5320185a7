"""What a softphone heard, as far as it is kept, and waiting for more."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

Samples = npt.NDArray[np.int16]

MAX_FRAMES = 15_000
"""Frames of 20 ms that are kept: five minutes."""


class HeardSound:
    """Frames in the order in which they came; the oldest go when there are too many.

    Attributes:
        count: how many came in all.
    """

    def __init__(self, kept: int = MAX_FRAMES) -> None:
        self._frames: deque[Samples] = deque(maxlen=kept)
        self.count = 0

    def append(self, frame: Samples) -> None:
        """20 ms more."""
        self._frames.append(frame)
        self.count += 1

    def since(self, number: int) -> list[Samples]:
        """The frames from a number on, as far as they are kept."""
        kept = min(self.count - number, len(self._frames))
        return list(self._frames)[len(self._frames) - kept :] if kept > 0 else []

    def __iter__(self) -> Iterator[Samples]:
        return iter(self._frames)


class News:
    """Wakes whoever waits for something to happen.

    Take `next` first, look at what there is, then wait: nothing is missed between.
    """

    def __init__(self) -> None:
        self._next = asyncio.Event()

    @property
    def next(self) -> asyncio.Event:
        """Set at the next thing that happens."""
        return self._next

    def tell(self) -> None:
        """Something happened."""
        self._next.set()
        self._next = asyncio.Event()
