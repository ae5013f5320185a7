"""Writes what happens in calls: together, in order, and again while the database is away.

Calls tell of many small things, and sixty a second may ring. Each would take a connection of its
own; here one transaction takes all that has come since the one before. What is asked for is kept
until it was written: a call that was let in has its record, whenever the database comes back.
"""

from __future__ import annotations

import asyncio
from collections import Counter, deque
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from contextlib import AsyncExitStack, asynccontextmanager, contextmanager
from dataclasses import dataclass, field
from weakref import WeakValueDictionary

import structlog
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.background import keep_running
from fond_echo.store.database import AWAY, Database

log = structlog.get_logger()

Write = Callable[[AsyncSession], Awaitable[None]]
"""Done once where it succeeds; it may be begun again from its beginning."""

MOST = 200
"""So many are written together."""

FIRST_PAUSE, MAX_PAUSE = 0.2, 5.0
"""Seconds between tries while the database is away."""


@dataclass
class _Wanted:
    record: str
    kind: str
    write: Write
    done: asyncio.Future[bool] = field(
        default_factory=lambda: asyncio.get_running_loop().create_future()
    )


class CallWriter:
    """One for a process; `start` it, and `stop` it when all was asked for."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._waiting: deque[_Wanted] = deque()
        self._pending: Counter[str] = Counter()
        self._locks: WeakValueDictionary[str, asyncio.Lock] = WeakValueDictionary()
        self._something, self._written = asyncio.Event(), asyncio.Condition()
        self._task: asyncio.Task[None] | None = None

    @property
    def waiting(self) -> int:
        """How many are not written yet."""
        return sum(self._pending.values())

    async def write(self, record: str, kind: str, write: Write) -> bool:
        """Have something about a call written, behind all that was asked for before.

        Returns:
            False where the database refused it, which is logged.
        """
        if self._task is None:
            self._task = asyncio.create_task(keep_running("the writer of calls", self._run))
        wanted = _Wanted(record, kind, write)
        self._waiting.append(wanted)
        self._pending[record] += 1
        self._something.set()
        return await asyncio.shield(wanted.done)

    @asynccontextmanager
    async def alone(self, record: str) -> AsyncIterator[AsyncSession]:
        """A transaction about a call, behind all that was asked for of it before."""
        with self._lock_of(record) as lock:
            async with self._written:
                await self._written.wait_for(lambda: not self._pending[record])
            async with lock, self._database.writing() as session:
                yield session

    async def stop(self) -> None:
        """Write what is left, if the database is there, and end."""
        if self._task is None:
            return
        async with self._written:
            try:
                await asyncio.wait_for(
                    self._written.wait_for(lambda: not self.waiting), 2 * MAX_PAUSE
                )
            except TimeoutError:
                log.warning("records of calls were not written", count=self.waiting)
        self._task.cancel()
        self._task = None

    @contextmanager
    def _lock_of(self, record: str) -> Iterator[asyncio.Lock]:
        yield self._locks.setdefault(record, asyncio.Lock())

    async def _run(self) -> None:
        while True:
            await self._something.wait()
            self._something.clear()
            while self._waiting:
                await self._batch([self._waiting.popleft() for _ in range(self._size)])

    @property
    def _size(self) -> int:
        return min(MOST, len(self._waiting))

    async def _batch(self, wanted: list[_Wanted]) -> None:
        pause = FIRST_PAUSE
        while True:
            try:
                refused = await self._together(wanted)
                break
            except Exception as error:
                if not isinstance(error, AWAY):
                    log.exception("records of calls could not be written", count=len(wanted))
                    refused = {id(each) for each in wanted}
                    break
                log.warning("records of calls wait for the database",
                            count=self.waiting, reason=str(error).splitlines()[0])  # fmt: skip
                await asyncio.sleep(pause)
                pause = min(MAX_PAUSE, 2 * pause)
        async with self._written:
            for each in wanted:
                each.done.set_result(id(each) not in refused)
                self._pending[each.record] -= 1
                if not self._pending[each.record]:
                    del self._pending[each.record]
            self._written.notify_all()

    async def _together(self, wanted: list[_Wanted]) -> set[int]:
        """Write them in one transaction; gives those that were refused. Raises what says that the
        database is away."""
        refused = set[int]()
        async with AsyncExitStack() as stack:
            for record in sorted({each.record for each in wanted}):
                lock = stack.enter_context(self._lock_of(record))
                await stack.enter_async_context(lock)
            session = await stack.enter_async_context(self._database.writing())
            for each in wanted:
                try:
                    async with session.begin_nested():
                        await each.write(session)
                except AWAY:
                    raise
                except SQLAlchemyError as error:
                    # One that cannot be written is no matter of the others.
                    log.warning("an event of a call is lost", kind=each.kind, call=each.record,
                              reason=str(error).splitlines()[0])  # fmt: skip
                    refused.add(id(each))
        return refused
