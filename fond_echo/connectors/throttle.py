"""Keeping within what a service takes: so many at once, so many a second."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager


class Throttle:
    """Lets requests through at a rate, and a number of them at once; the others wait.

    It holds for one process: several work processes share a network's rate by each having its
    part, which the limits in the connector must then say.
    """

    def __init__(self, rate: float, concurrency: int) -> None:
        self._gap = 1.0 / rate
        self._next = 0.0
        self._places = asyncio.Semaphore(concurrency)

    @property
    def roomy(self) -> bool:
        """Whether half of a second's worth is left: enough for what can be left out as well."""
        return not self._places.locked() and self._next <= time.monotonic() - 0.5

    @asynccontextmanager
    async def place(self) -> AsyncIterator[None]:
        """Wait for a place, and hold it."""
        async with self._places:
            now = time.monotonic()
            # A second's worth may go at once after a pause; then one each gap.
            self._next = max(self._next, now - 1.0) + self._gap
            if self._next > now:
                await asyncio.sleep(self._next - now)
            yield


class Throttles:
    """One throttle for each name, kept while its limits stay the same."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[float, int, Throttle]] = {}

    def of(self, name: str, rate: float, concurrency: int) -> Throttle:
        known = self._known.get(name)
        if known is None or known[:2] != (rate, concurrency):
            known = (rate, concurrency, Throttle(rate, concurrency))
            self._known[name] = known
        return known[2]
