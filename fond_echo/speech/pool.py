"""Speech workers, and the order in which they are given work: calls, voice notes, long files."""

from __future__ import annotations

import asyncio
import bisect
import contextlib
import itertools
import multiprocessing
import os
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from multiprocessing.reduction import ForkingPickler
from typing import Any

import structlog

from fond_echo.core.errors import FondEchoError
from fond_echo.speech.errors import SpeechCrashed
from fond_echo.speech.jobs import serve
from fond_echo.speech.priority import Priority

log = structlog.get_logger()

WARM = "fond_echo.speech.warm"

JOB_SECONDS = 60.0
RESPAWN_SECONDS = 1.0


@dataclass(order=True)
class _Waiting:
    priority: int
    number: int
    job: Any = field(compare=False)
    result: asyncio.Future[Any] = field(compare=False)
    worker: int | None = field(compare=False, default=None)


class _Line:
    """Jobs that wait: a worker takes the first that any or only it may do."""

    def __init__(self) -> None:
        self._jobs: list[_Waiting] = []
        self._changed = asyncio.Condition()

    def __len__(self) -> int:
        return len(self._jobs)

    async def put(self, job: _Waiting) -> None:
        async with self._changed:
            bisect.insort(self._jobs, job)
            self._changed.notify_all()

    async def take(self, worker: int) -> _Waiting:
        async with self._changed:
            while True:
                for job in self._jobs:
                    if job.worker in (None, worker):
                        self._jobs.remove(job)
                        return job
                await self._changed.wait()


class SpeechPool:
    """A fixed number of worker processes behind one priority queue.

    Args:
        workers: how many.
        seconds: a job that takes longer is given up and its worker replaced.
    """

    def __init__(self, workers: int, *, seconds: float = JOB_SECONDS) -> None:
        self._count = workers
        self._seconds = seconds
        self._line = _Line()
        self._numbers = itertools.count()
        self._tasks: list[asyncio.Task[None]] = []
        # One numeric thread a worker: they would only take the cores from each other.
        for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "NUMBA_NUM_THREADS"):
            os.environ[name] = "1"
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(["__main__", WARM])

    async def start(self) -> None:
        """Start the workers; they have loaded everything when this returns."""
        workers = [await asyncio.to_thread(self._spawn) for _ in range(self._count)]
        self._tasks = [
            asyncio.create_task(self._serve(number, *worker))
            for number, worker in enumerate(workers)
        ]

    async def stop(self) -> None:
        for task in self._tasks:
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        self._tasks = []

    @property
    def workers(self) -> int:
        return self._count

    async def run(self, job: Any, priority: Priority, *, worker: int | None = None) -> Any:
        """Do a job in a worker.

        Args:
            worker: the only one that may do it, 0 to `workers` − 1.

        Raises:
            FondEchoError: as the job raised it.
            SpeechCrashed: the worker died, or took too long.
        """
        result: asyncio.Future[Any] = asyncio.get_running_loop().create_future()
        await self._line.put(_Waiting(priority, next(self._numbers), job, result, worker))
        return await result

    @property
    def waiting(self) -> int:
        """Jobs that no worker has yet."""
        return len(self._line)

    def _spawn(self) -> tuple[BaseProcess, Connection]:
        ours, theirs = self._context.Pipe()
        process = self._context.Process(target=serve, args=(theirs,), daemon=True)
        process.start()
        theirs.close()
        return process, ours

    async def _serve(self, number: int, process: BaseProcess, pipe: Connection) -> None:
        try:
            while True:
                waiting = await self._line.take(number)
                if waiting.result.cancelled():
                    continue
                try:
                    data = ForkingPickler.dumps(waiting.job)
                except Exception as error:  # whatever a job is made of: it is the job's own fault
                    what = f"the job cannot be sent to a worker: {error}"
                    _settle(waiting.result, FondEchoError(what))
                    continue
                try:
                    answer = await self._exchange(pipe, data)
                except Exception as error:
                    why = "took too long" if isinstance(error, TimeoutError) else "died"
                    log.warning("a speech worker is replaced", why=why, reason=repr(error))
                    _settle(waiting.result, SpeechCrashed(f"the speech worker {why}"))
                    _end(process, pipe)
                    process, pipe = await self._replaced()
                else:
                    _settle(waiting.result, getattr(answer, "error", answer))
        finally:
            _end(process, pipe)

    async def _replaced(self) -> tuple[BaseProcess, Connection]:
        """A new worker, however long it takes until the machine can give one."""
        while True:
            try:
                return await asyncio.to_thread(self._spawn)
            except Exception:
                log.exception("no speech worker could be begun")
                await asyncio.sleep(RESPAWN_SECONDS)

    async def _exchange(self, pipe: Connection, data: Any) -> Any:
        def talk() -> Any:
            pipe.send_bytes(data)
            if not pipe.poll(self._seconds):
                raise TimeoutError
            return pipe.recv()

        return await asyncio.to_thread(talk)


def _settle(future: asyncio.Future[Any], result: Any) -> None:
    if future.cancelled():
        return
    if isinstance(result, FondEchoError):
        future.set_exception(result)
    else:
        future.set_result(result)


def _end(process: BaseProcess, pipe: Connection) -> None:
    with contextlib.suppress(OSError):
        pipe.close()
    if process.is_alive():
        process.kill()
    process.join(2)
