"""A process whose loop stands still is ended by the kernel, whatever it is doing.

A timer of the process's own processor time (POSIX ITIMER_PROF) is wound up again at every turn of
the loop. Where the loop has no turn while the process uses up the timer, SIGPROF ends it: time in
which the machine is suspended, or busy with others, does not count, and no code of Python has to
run for it, as none can while a comparison of deep lists holds the interpreter. Before it ends, the
frames of all its threads are written to its log.
"""

from __future__ import annotations

import asyncio
import contextlib
import faulthandler
import io
import os
import signal

SECONDS = 10.0
"""Of processor time without a turn of the loop."""

SECONDS_OF_CALLS = 30.0
"""The same in a process with calls, which all end with it."""

WIND_SECONDS = 0.5
CORES = 8
"""On more cores than these the timer is longer in proportion: threads that work beside a healthy
loop could use it up between two of its turns."""


async def watch(seconds: float = SECONDS) -> None:
    """Keep the timer wound up, until cancelled; then there is none."""
    with contextlib.suppress(io.UnsupportedOperation, AttributeError, ValueError):
        # A log without a descriptor gets no frames.
        faulthandler.register(signal.SIGPROF, all_threads=True, chain=True)
    more = max(1.0, len(os.sched_getaffinity(0)) / CORES)
    try:
        while True:
            signal.setitimer(signal.ITIMER_PROF, seconds * more)
            await asyncio.sleep(WIND_SECONDS)
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)


def ended_by_it(code: int | None) -> bool:
    """Whether a process that ended with this code stood still."""
    return code == -signal.SIGPROF


async def until_stalled(seconds: float) -> None:
    """Return when the loop of this process stood still for so long, by the clock."""
    loop = asyncio.get_running_loop()
    while True:
        before = loop.time()
        await asyncio.sleep(WIND_SECONDS)
        if loop.time() - before > WIND_SECONDS + seconds:
            return
