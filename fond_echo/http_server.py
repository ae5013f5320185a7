"""Serving an application by HTTP, at rest while nobody asks."""

from __future__ import annotations

import asyncio
import contextlib
import sys
import threading
from types import FrameType
from typing import Any

import uvicorn

from fond_echo.watchdog import watch

DATE_SECONDS = 1.0
"""How old the date that answers carry may be."""

DID_NOT_START = 3


class QuietServer(uvicorn.Server):
    """uvicorn's server looks ten times a second whether it is to stop; this one is woken."""

    def __init__(self, config: uvicorn.Config) -> None:
        super().__init__(config)
        self._stopping: tuple[asyncio.AbstractEventLoop, asyncio.Event] | None = None

    async def main_loop(self) -> None:
        stopping = asyncio.Event()
        self._stopping = asyncio.get_running_loop(), stopping
        watching = asyncio.create_task(watch()) if _in_main_thread() else None
        # 0: among its ticks one that brings the date up to now.
        while not await self.on_tick(0):
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(DATE_SECONDS):
                    await stopping.wait()
        if watching is not None:
            watching.cancel()

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        super().handle_exit(sig, frame)
        if self._stopping is not None:
            loop, stopping = self._stopping
            loop.call_soon_threadsafe(stopping.set)


def _in_main_thread() -> bool:
    return threading.current_thread() is threading.main_thread()


def serve(app: Any, **options: Any) -> None:
    """Serve until a signal comes; the options are those of `uvicorn.Config`. Ends the process with
    `DID_NOT_START` where it cannot begin."""
    server = QuietServer(uvicorn.Config(app, **options))
    with contextlib.suppress(KeyboardInterrupt):
        server.run()
    if not server.started:
        sys.exit(DID_NOT_START)
