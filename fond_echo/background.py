"""Work beside the main work of a process: supervised, logged, started again, and at rest while
there is nothing to do."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Awaitable, Callable

import structlog

log = structlog.get_logger()

FIRST_PAUSE, MAX_PAUSE = 0.5, 30.0
STEADY_SECONDS = 60.0
"""Work that went well for so long begins again after the first pause."""


async def keep_running(name: str, work: Callable[[], Awaitable[None]]) -> None:
    """Run something without end: whenever it fails, or ends, log why and start it again, after a
    pause that grows. Only being cancelled ends it."""
    pause = FIRST_PAUSE
    while True:
        begun = time.monotonic()
        try:
            await work()
            log.error("background work ended; it is started again", work=name, in_seconds=pause)
        except Exception:
            log.exception(
                "background work failed; it is started again", work=name, in_seconds=pause
            )
        if time.monotonic() - begun > STEADY_SECONDS:
            pause = FIRST_PAUSE
        await asyncio.sleep(pause)
        pause = min(MAX_PAUSE, pause * 2)


class Looking:
    """When somebody looks again for something to do: at once where there was something, soon after
    being woken, else after pauses that grow.

    Args:
        soon: seconds after being woken, so that many wakings make one look; and the first pause.
        longest: the longest pause.
    """

    def __init__(self, soon: float, longest: float) -> None:
        self._soon, self._longest = soon, longest
        self._pause = soon
        self._woken = asyncio.Event()

    def wake(self) -> None:
        """There may be something now."""
        self._woken.set()

    async def pause(self, found: object) -> None:
        """Wait until it is time; `found` is what the last look gave."""
        if found:
            self._pause = self._soon
            return
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(self._pause):
                await self._woken.wait()
        if not self._woken.is_set():
            self._pause = min(self._longest, 2 * self._pause)
            return
        await asyncio.sleep(self._soon)
        # What wakes may not be there to be read yet: it is looked for again soon.
        self._pause = self._soon
        self._woken.clear()
