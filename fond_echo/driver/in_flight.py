"""The turns that this process carries: let go of where another one took them, or where it stops."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

import structlog
from sqlalchemy import select, update

from fond_echo.driver.errors import AskedBefore, RetryLater
from fond_echo.records.claim import Claim, Failure
from fond_echo.records.errors import StaleWorker
from fond_echo.records.journal import Journal
from fond_echo.store.database import AWAY, Database
from fond_echo.store.records import Turn

log = structlog.get_logger()

MAX_CRASHES = 3
"""A turn is given up after so many processes ended while they carried it."""

SUSPECT_SECONDS = 1.0
"""A turn with which a process ended waits so long where another such turn is being carried: of
those that were carried together, one is the cause."""


def crashed(crashes: int) -> Failure:
    """Why a turn is given up with which processes ended."""
    what = f"{crashes} processes of the service ended while they carried this turn"
    remedy = "correct what it runs into, then retry it on that revision"
    return Failure("receive", "workers-crashed", what, remedy)


async def ask_once(journal: Journal, claim: Claim, question: str) -> None:
    """Put down that business logic is about to be asked, before it is.

    Raises:
        AskedBefore: it stands there already: a process stopped between asking and the answer.
        StaleWorker: the turn is not ours any more.
    """
    if question in claim.asked_once:
        raise AskedBefore(
            "it was asked before the process that carried this turn stopped, and its answer was "
            "lost",
            remedy="send {{ call }} along, by which it can know a repeated question; or mark the "
            "reply safe: true where asking twice changes nothing",
        )
    await journal.note_asked(claim, question)


class InFlight:
    """The claims of this process.

    Args:
        database: where others may have taken them.
    """

    def __init__(self, database: Database) -> None:
        self._database = database
        self._carried: dict[asyncio.Task[object], Claim] = {}
        self._taken: set[asyncio.Task[object]] = set()
        self._suspect = asyncio.Lock()

    @asynccontextmanager
    async def carrying(self, claim: Claim) -> AsyncIterator[None]:
        """While a turn is carried by the task that asks.

        Raises:
            RetryLater: a process ended with it, and it is not its time.
            StaleWorker: another process has taken it meanwhile.
        """
        task = asyncio.current_task()
        assert task is not None
        if claim.crashes:
            log.warning("processes ended with this turn", turn=claim.turn.id, ended=claim.crashes)
            if self._suspect.locked():
                raise RetryLater(SUSPECT_SECONDS)
            await self._suspect.acquire()
        self._carried[task] = claim
        try:
            yield
        except asyncio.CancelledError:
            if task in self._taken:
                task.uncancel()
                raise StaleWorker(f"the turn {claim.turn.id} was taken by another worker") from None
            with contextlib.suppress(*AWAY):
                await asyncio.shield(self._let_go(claim))
            raise
        finally:
            self._taken.discard(task)
            del self._carried[task]
            if claim.crashes:
                self._suspect.release()

    async def let_go_of_taken(self) -> int:
        """Stop carrying what another process took, while this one stood still; how many those
        were."""
        carried = dict(self._carried)
        wanted = select(Turn.id, Turn.epoch).where(
            Turn.id.in_([each.turn.id for each in carried.values()])
        )
        async with self._database.reading() as session:
            epochs = dict((await session.execute(wanted)).tuples().all())
        count = 0
        for task, claim in carried.items():
            if task in self._carried and epochs.get(claim.turn.id) != claim.epoch:
                self._taken.add(task)
                task.cancel()
                count += 1
        return count

    async def _let_go(self, claim: Claim) -> None:
        """Say that this process carries a turn no more, though it is not finished: a process that
        is told to stop is no dead one."""
        mine = Turn.id == claim.turn.id, Turn.epoch == claim.epoch
        async with self._database.writing() as session:
            await session.execute(update(Turn).where(*mine).values(worker=None))
