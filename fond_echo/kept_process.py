"""Work on what authors send, in one child process that is kept, with what it remembers.

An editor's checks are of the same files again and again: a child that is kept need only look at
what changed. Each piece of work has a limit of processor time of its own; whatever goes wrong ends
the child, and the next piece of work begins with a new one.
"""

from __future__ import annotations

import asyncio
import gc
import math
import resource
import signal
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any, TypeVar

from fond_echo.isolation import GRACE_SECONDS, Child, Isolation, Raised, answer_of, limit_memory

Result = TypeVar("Result")

IDLE_SECONDS = 600.0
"""A child that had no work for so long ends: what it remembers takes memory."""


class KeptProcess:
    """Runs functions in one child, one after another; where that is at work already, in children of
    their own.

    Args:
        memory: bytes of address space for the child, beside what it begins with.
        cpu_seconds: of processor time for each piece of work.
    """

    def __init__(self, *, memory: int, cpu_seconds: int) -> None:
        self._memory, self._cpu_seconds = memory, cpu_seconds
        self._others = Isolation(memory=memory, cpu_seconds=cpu_seconds, at_once=2, spare=0)
        self._child: Child | None = None
        self._free = asyncio.Lock()

    async def run(self, function: Callable[..., Result], *arguments: Any) -> Result:
        """Call a function of a module with arguments that can be pickled.

        Raises:
            Exhausted: it took too much memory or time.
            FondEchoError: as the function raised it.
        """
        if self._free.locked():
            return await self._others.run(function, *arguments)
        async with self._free:
            # Whoever is not waited for any more is worked for to the end all the same: a child is
            # never left in the middle of an answer.
            work = asyncio.ensure_future(asyncio.to_thread(self._in_child, function, arguments))
            try:
                return await asyncio.shield(work)
            except asyncio.CancelledError:
                await asyncio.wait([work])
                raise

    def close(self) -> None:
        """End the child."""
        if self._child is not None:
            self._child.end()
            self._child = None

    def _in_child(self, function: Callable[..., Result], arguments: tuple[Any, ...]) -> Result:
        child = self._child
        if child is None or not child.process.is_alive():
            self.close()
            child = self._child = self._others.born(_serve)
        answer = child.ask(function, arguments, 2.0 * self._cpu_seconds + GRACE_SECONDS)
        if isinstance(answer, Raised):
            self.close()
            raise answer.error
        result: Result = answer
        return result


def _serve(pipe: Connection, memory: int, cpu_seconds: int) -> None:
    """Do work until no more comes for a while, or its sender ends."""
    limit_memory(memory)
    signal.signal(signal.SIGXCPU, signal.SIG_DFL)
    gc.freeze()
    while pipe.poll(IDLE_SECONDS):
        try:
            function, arguments = pipe.recv()
        except EOFError:
            return
        used = resource.getrusage(resource.RUSAGE_SELF)
        spent = math.ceil(used.ru_utime + used.ru_stime)
        resource.setrlimit(resource.RLIMIT_CPU, (spent + cpu_seconds, resource.RLIM_INFINITY))
        # Looking for garbage takes longer than a check; it is done when the answer is out.
        gc.disable()
        pipe.send(answer_of(function, arguments))
        gc.enable()
