"""Writing about a turn that is claimed, and about no other.

Every claim raises the turn's epoch, and every write checks it, so that a worker that was taken
for dead and wakes again cannot write over the one that took its place.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import procrastinate
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.stages.claim import Claim, StaleWorker
from fond_echo.store.database import Database
from fond_echo.store.events import emit
from fond_echo.store.records import Turn


@dataclass(frozen=True)
class Fence:
    """The records of turns and their queue, for whoever holds a claim."""

    database: Database
    queue: procrastinate.App

    async def tell(self, session: AsyncSession, claim: Claim, type: str, **data: Any) -> None:
        """Write an event of the turn."""
        await emit(
            session,
            type,
            claim.turn.id,
            channel=claim.turn.channel,
            conversation=claim.turn.conversation_id,
            number=claim.turn.number,
            **data,
        )

    async def check(self, session: AsyncSession, claim: Claim) -> None:
        """Lock the turn's row and check that it is still ours. Raises StaleWorker."""
        wanted = select(Turn.epoch).where(Turn.id == claim.turn.id).with_for_update()
        if (await session.execute(wanted)).scalar_one_or_none() != claim.epoch:
            raise StaleWorker(f"the turn {claim.turn.id} was taken by another worker")
