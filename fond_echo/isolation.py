"""Work on what strangers send, in a child process with bounded memory, time and no files.

Each piece of work gets a child of its own, forked from a small server that has loaded what it
needs; whatever happens in it ends with it.
"""

from __future__ import annotations

import asyncio
import multiprocessing
import resource
from collections.abc import Callable, Sequence
from multiprocessing import forkserver
from multiprocessing.connection import Connection
from typing import Any, TypeVar

from fond_echo.core.errors import FondEchoError

Result = TypeVar("Result")

PRELOADED = ("__main__", "fond_echo.speech.decoding", "fond_echo.documents.checking")
"""What the server has loaded before any child is forked."""


class Exhausted(FondEchoError):
    """A child used up its memory or its time."""

    code = "work-exhausted"


class Isolation:
    """Runs functions in children.

    Args:
        memory: bytes of address space for a child.
        cpu_seconds: of processor time; twice that of waiting.
        at_once: so many children at a time; the rest of the work waits.
    """

    def __init__(self, *, memory: int, cpu_seconds: int, at_once: int = 8) -> None:
        self._memory, self._cpu_seconds = memory, cpu_seconds
        self._places = asyncio.Semaphore(at_once)
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(list(PRELOADED))

    def warm(self) -> None:
        """Start the server that children are forked from, so that the first need not wait for it
        to load."""
        forkserver.ensure_running()

    async def run(self, function: Callable[..., Result], *arguments: Any) -> Result:
        """Call a function of a module with arguments that can be pickled.

        Raises:
            Exhausted: it took too much memory or time.
            FondEchoError: as the function raised it.
        """
        async with self._places:
            return await asyncio.to_thread(self._in_child, function, arguments)

    def _in_child(self, function: Callable[..., Result], arguments: Sequence[Any]) -> Result:
        ours, theirs = self._context.Pipe()
        child = self._context.Process(
            target=_child, args=(theirs, self._memory, self._cpu_seconds), daemon=True
        )
        child.start()
        theirs.close()
        try:
            ours.send((function, arguments))
            if not ours.poll(2.0 * self._cpu_seconds):
                raise Exhausted("it took too long")
            answer = ours.recv()
        except (EOFError, OSError) as error:
            raise Exhausted("it used up its memory or time") from error
        finally:
            ours.close()
            # Its answer is here, or will never be: nothing is gained by letting it end in order.
            child.kill()
            child.join()
            child.close()
        if isinstance(answer, _Raised):
            raise answer.error
        result: Result = answer
        return result


class _Raised:
    """An error, as it travels back."""

    def __init__(self, error: Exception) -> None:
        self.error = error


def _child(pipe: Connection, memory: int, cpu_seconds: int) -> None:
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (cpu_seconds, cpu_seconds + 1))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    function, arguments = pipe.recv()
    answer: Any
    try:
        answer = function(*arguments)
    except FondEchoError as error:
        answer = _Raised(error)
    except MemoryError:
        answer = _Raised(Exhausted("it used up its memory"))
    pipe.send(answer)
