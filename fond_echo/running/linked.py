"""Processes of our own that are begun by another one, and joined to it by a pair of sockets."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import socket
import subprocess
import sys
from collections.abc import Awaitable, Callable

from fond_echo.phone.link import Link
from fond_echo.running import logs
from fond_echo.running.fork_server import Forked, begin
from fond_echo.settings import Settings
from fond_echo.watchdog import SECONDS_OF_CALLS, watch


class LinkedProcess:
    """A process as the one that began it has it.

    Args:
        module: what it runs: a module whose main is `serve`.
        link: our end.
        settings: how it logs.
    """

    def __init__(self, module: str, link: Link, settings: Settings) -> None:
        self._module, self.link, self._settings = module, link, settings
        self._process: Forked | subprocess.Popen[bytes] | None = None
        self._running: asyncio.Task[None] | None = None

    async def start(self, gone: Callable[[], None] = lambda: None) -> None:
        """Begin it; `gone` is called when it ends."""
        ours, theirs = socket.socketpair()
        with theirs:
            arguments = [self._settings.log, str(self._settings.log_level)]
            self._process = await asyncio.to_thread(begin, self._module, arguments, end=theirs)
        await self.link.open(ours)
        self._running = asyncio.create_task(self.link.run())
        self._running.add_done_callback(lambda _: gone())

    @property
    def pid(self) -> int:
        """Its process id."""
        assert self._process is not None
        return self._process.pid

    @property
    def is_gone(self) -> bool:
        """Whether it has ended, or never began."""
        return self._running is None or self._running.done()

    async def gone(self) -> None:
        """Wait until it is."""
        assert self._running is not None
        await asyncio.wait([self._running])

    def leave(self) -> None:
        """Let go of our end: it ends as it does when this process dies."""
        assert self._running is not None
        self._running.cancel()

    async def stop(self) -> None:
        """End it."""
        assert self._process is not None and self._running is not None
        if self._process.poll() is None:
            self._process.terminate()
        await asyncio.to_thread(self._process.wait)
        await asyncio.wait([self._running], timeout=2.0)


def serve(name: str, niceness: int, work: Callable[[socket.socket], Awaitable[None]]) -> None:
    """What such a process does from its beginning to its end: the other end of the link is the
    descriptor that its first argument names."""
    logs.begin(sys.argv[2], sys.argv[3], name)
    # Whoever began this process ends it: Ctrl-C in a terminal reaches both.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    with contextlib.suppress(OSError):
        os.nice(niceness)
    with socket.socket(fileno=int(sys.argv[1])) as end:
        asyncio.run(_run(work, end))


async def _run(work: Callable[[socket.socket], Awaitable[None]], end: socket.socket) -> None:
    watching = asyncio.create_task(watch(SECONDS_OF_CALLS))
    try:
        await work(end)
    finally:
        watching.cancel()
