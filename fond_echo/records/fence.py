"""Writing about a turn that is claimed, and about no other.

Every claim raises the turn's epoch, and every write checks it, so that a worker that was taken
for dead and wakes again cannot write over the one that took its place.
"""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass

import procrastinate
from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.records.claim import Claim
from fond_echo.records.errors import StaleWorker
from fond_echo.records.pending import Pending
from fond_echo.store.database import Database

_EPOCH = text("SELECT epoch FROM turns WHERE id = :id FOR UPDATE")


@dataclass(frozen=True)
class Fence:
    """The records of turns and their queue, for whoever holds a claim."""

    database: Database
    queue: procrastinate.App

    @asynccontextmanager
    async def writing(
        self, claim: Claim, own: Pending | None = None
    ) -> AsyncIterator[AsyncSession]:
        """A transaction about a turn, which ends with whatever is pending.

        Args:
            own: what is true only if this transaction is kept. What is pending is written with the
                next one where this one fails; this is not.

        Raises:
            StaleWorker: the turn is not ours any more.
        """
        async with claim.writing:
            written = Pending()
            try:
                async with self.database.writing() as session:
                    await _check(session, claim)
                    written = claim.pending.sounds()
                    about = claim.turn.id, claim.turn.assistant.assistant
                    await written.write(session, *about)
                    yield session
                    rest, claim.pending = claim.pending, Pending()
                    written = written.followed_by(rest)
                    await rest.followed_by(own or Pending()).write(session, *about)
            except BaseException:
                claim.pending = written.followed_by(claim.pending)
                raise

    async def flush(self, claim: Claim, own: Pending | None = None) -> None:
        """Write what is pending, if anything is, and what is this transaction's own."""
        if claim.pending or own:
            async with self.writing(claim, own):
                pass


async def _check(session: AsyncSession, claim: Claim) -> None:
    """Lock the turn's row and check that it is still ours."""
    if (await session.execute(_EPOCH, {"id": claim.turn.id})).scalar_one_or_none() != claim.epoch:
        raise StaleWorker(f"the turn {claim.turn.id} was taken by another worker")
