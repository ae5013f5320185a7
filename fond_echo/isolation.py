"""Work on what strangers send, in a child process with bounded memory, time and no files.

Each piece of work gets a child of its own, forked from a small server that has loaded what it
needs; whatever happens in it ends with it. Where work comes often one waits for it, so that no work
waits for a child.
"""

from __future__ import annotations

import asyncio
import contextlib
import multiprocessing
import resource
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from multiprocessing import forkserver
from multiprocessing.connection import Connection
from multiprocessing.context import ForkServerProcess
from pathlib import Path
from typing import Any, TypeVar

from fond_echo.core.errors import Exhausted, FondEchoError

Result = TypeVar("Result")
Serving = Callable[[Connection, int, int], None]
"""What a child does: with its pipe, its bytes of memory and its seconds of processor time."""

REFILL_SECONDS = 0.3
"""After some work, the next child is forked so much later: who sent the work is waiting for what
follows it, on the same cores."""

GRACE_SECONDS = 60.0
"""So much longer than twice its processor time a child is waited for: others may use the machine,
too, and it has to be begun."""

PRELOADED = ("__main__", "fond_echo.speech.decoding", "fond_echo.documents.warm")
"""What the server has loaded before any child is forked."""


class Isolation:
    """Runs functions in children.

    Args:
        memory: bytes of address space for a child, beside what it begins with.
        cpu_seconds: of processor time; twice that and `GRACE_SECONDS` of waiting.
        at_once: so many children at a time; the rest of the work waits.
        spare: so many wait for work, once there was any: each takes some 20 MB.
    """

    def __init__(self, *, memory: int, cpu_seconds: int, at_once: int = 8, spare: int = 1) -> None:
        self._memory, self._cpu_seconds = memory, cpu_seconds
        self._places = asyncio.Semaphore(at_once)
        self._wanted = spare
        self._spare: list[Child] = []
        self._over: list[Child] = []
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(list(PRELOADED))

    def warm(self) -> None:
        """Start the server that children are forked from and the first of them, so that no work
        need wait for it to load."""
        forkserver.ensure_running()
        threading.Thread(target=self._refill, daemon=True).start()

    def close(self) -> None:
        """End the children that wait, and those that are done."""
        for children in (self._over, self._spare):
            while children:
                children.pop().end()

    def _refill_soon(self) -> None:
        asyncio.get_running_loop().run_in_executor(None, self._refill)

    def _refill(self) -> None:
        with contextlib.suppress(IndexError):
            while True:
                self._over.pop().end()
        # Where none can be had now, the next piece of work says so.
        with contextlib.suppress(OSError, EOFError):
            while len(self._spare) < self._wanted:
                self._spare.append(self.born())

    def born(self, serving: Serving | None = None) -> Child:
        """A new child, which does one piece of work, or what it is given to do."""
        ours, theirs = self._context.Pipe()
        process = self._context.Process(
            target=serving or _work_once, args=(theirs, self._memory, self._cpu_seconds),
            daemon=True,
        )  # fmt: skip
        process.start()
        theirs.close()
        return Child(process, ours)

    def _ready(self) -> Child:
        """A child that waits and lives, or a new one."""
        with contextlib.suppress(IndexError):
            while True:
                child = self._spare.pop()
                if child.process.is_alive():
                    return child
                child.end()
        return self.born()

    async def run(self, function: Callable[..., Result], *arguments: Any) -> Result:
        """Call a function of a module with arguments that can be pickled.

        Raises:
            Exhausted: it took too much memory or time.
            FondEchoError: as the function raised it.
        """
        async with self._places:
            try:
                return await asyncio.to_thread(self._in_child, function, arguments)
            finally:
                if self._over or len(self._spare) < self._wanted:
                    asyncio.get_running_loop().call_later(REFILL_SECONDS, self._refill_soon)

    def _in_child(self, function: Callable[..., Result], arguments: Sequence[Any]) -> Result:
        child = self._ready()
        try:
            answer = child.ask(function, arguments, 2.0 * self._cpu_seconds + GRACE_SECONDS)
        finally:
            # Its answer is here, or will never be: nothing is gained by letting it end in order,
            # nor by waiting until it has ended.
            self._over.append(child)
        if isinstance(answer, Raised):
            raise answer.error
        result: Result = answer
        return result


@dataclass(frozen=True)
class Child:
    """A child process, and our end of its pipe."""

    process: ForkServerProcess
    pipe: Connection

    def ask(self, function: Callable[..., Any], arguments: Sequence[Any], seconds: float) -> Any:
        """What the child answers: a result, or `Raised`; where none comes in time, `Raised`
        too."""
        try:
            self.pipe.send((function, arguments))
            if not self.pipe.poll(seconds):
                return Raised(Exhausted("it took too long"))
            return self.pipe.recv()
        except (EOFError, OSError):
            return Raised(Exhausted("it used up its memory or time"))

    def end(self) -> None:
        self.pipe.close()
        self.process.kill()
        self.process.join()
        self.process.close()


class Raised:
    """An error, as it travels back."""

    def __init__(self, error: Exception) -> None:
        self.error = error


def limit_memory(memory: int) -> None:
    """Let this process take so many bytes more than it has, and write no files."""
    pages = int(Path("/proc/self/statm").read_text().split()[0])
    memory += pages * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))


def _work_once(pipe: Connection, memory: int, cpu_seconds: int) -> None:
    limit_memory(memory)
    resource.setrlimit(resource.RLIMIT_CPU, (cpu_seconds, cpu_seconds + 1))
    try:
        function, arguments = pipe.recv()
    except EOFError:
        return  # whoever might have had work is gone
    pipe.send(answer_of(function, arguments))


def answer_of(function: Callable[..., Any], arguments: tuple[Any, ...]) -> Any:
    """What a child sends back: what a function gives, or what it raised."""
    try:
        return function(*arguments)
    except FondEchoError as error:
        return Raised(error)
    except MemoryError:
        return Raised(Exhausted("it used up its memory"))
