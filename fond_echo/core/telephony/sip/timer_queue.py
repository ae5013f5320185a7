"""When each of many is to be woken; the next one is found at once."""

from __future__ import annotations

import heapq
from collections.abc import Hashable
from typing import Generic, TypeVar

Key = TypeVar("Key", bound=Hashable)


class TimerQueue(Generic[Key]):
    """One time for each key."""

    def __init__(self) -> None:
        self._at: dict[Key, float] = {}
        self._heap: list[tuple[float, int, Key]] = []
        self._count = 0

    def put(self, key: Key, at: float | None) -> None:
        """Wake a key then, and at no other time; None: not at all."""
        if self._at.get(key) == at:
            return
        if at is None:
            self._at.pop(key, None)
            return
        self._at[key] = at
        self._count += 1
        heapq.heappush(self._heap, (at, self._count, key))

    @property
    def due(self) -> float | None:
        """The next time; None where nobody waits."""
        while self._heap and self._at.get(self._heap[0][2]) != self._heap[0][0]:
            heapq.heappop(self._heap)
        return self._heap[0][0] if self._heap else None

    def ring(self, now: float) -> list[Key]:
        """Those whose time has come; each is told once."""
        found: list[Key] = []
        while (due := self.due) is not None and due <= now:
            _, _, key = heapq.heappop(self._heap)
            del self._at[key]
            found.append(key)
        return found
