"""Work beside the main work of a process: supervised, logged, and started again."""

from __future__ import annotations

import asyncio
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
