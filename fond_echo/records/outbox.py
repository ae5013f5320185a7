"""The records of what turns send: planned before anything goes out, and moved on as it goes."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import case, func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.records.claim import Claim
from fond_echo.records.fence import Fence
from fond_echo.records.pending import Pending
from fond_echo.store.queue import SEND_DELIVERY, enqueue
from fond_echo.store.records import Delivery
from fond_echo.turns.delivery import PlannedDelivery


class Outbox:
    """Reads and writes deliveries of claimed turns."""

    def __init__(self, fence: Fence) -> None:
        self._fence = fence

    async def plan(
        self, claim: Claim, planned: Sequence[PlannedDelivery]
    ) -> tuple[list[Delivery], str]:
        """The turn's deliveries, written down before anything goes out, the first as being sent;
        those of an earlier attempt as they stand. Gives them, and the id of the one that was
        begun."""
        own = Pending()
        async with self._fence.writing(claim, own) as session:
            if known := await _known(session, claim, planned):
                return known, ""
            rows = [_delivery(claim, each) for each in planned]
            for row in rows[:1]:
                row.state, row.attempts = "sending", 1
            session.add_all(rows)
            await session.flush()
            for row in rows[:1]:
                own.events.append(_changed(claim, row, "sending"))
            return rows, rows[0].id if rows else ""

    async def settled(
        self, claim: Claim, planned: Sequence[PlannedDelivery], state: str,
        error: dict[str, Any] | None,
    ) -> None:  # fmt: skip
        """Deliveries that are in their last state already; nothing is to be sent. Those of an
        earlier attempt stay as they are."""
        own = Pending()
        async with self._fence.writing(claim, own) as session:
            if await _known(session, claim, planned):
                return
            rows = [_delivery(claim, each) for each in planned]
            for row in rows:
                row.state, row.error, row.attempts = state, error, 1
                row.settled_at = datetime.now(UTC)
            session.add_all(rows)
            await session.flush()
            own.events += [_changed(claim, row, state) for row in rows]

    async def aside(
        self, claim: Claim, part: int, text: str, kind: str = "text", **extra: Any
    ) -> tuple[Delivery, bool]:
        """A text beside the answer (part below 0), or an edit of one, written down once; and
        whether it was before."""
        claim.resumed = True  # there is something beside the answer to settle
        async with self._fence.writing(claim) as session:
            key = f"{claim.turn.run_id}-beside{-part}"
            known = select(Delivery).where(Delivery.key == key)
            if (row := (await session.execute(known)).scalar_one_or_none()) is not None:
                return row, True
            row = Delivery(
                turn_id=claim.turn.id,
                run_id=claim.turn.run_id,
                kind=kind,
                part=part,
                key=key,
                text=text,
                extra=extra,
            )
            session.add(row)
            await session.flush()
            return row, False

    async def planned(self, claim: Claim, delivery_id: str) -> Delivery | None:
        """A delivery that waits to be sent; None where it does not."""
        async with self._fence.database.reading() as session:
            row = await session.get(Delivery, delivery_id)
        return row if row is not None and row.state == "planned" else None

    async def move(self, claim: Claim, row: Delivery, state: str, **changes: Any) -> None:
        """Move a delivery to another state: to "sending" before this returns, to any other with
        what is written next."""
        if state == "sending":
            row.attempts += 1
            changes["attempts"] = row.attempts
        elif state != "planned":
            changes["settled_at"] = datetime.now(UTC)
        change = row.id, {"state": state, **changes}
        event = _changed(claim, row, state)
        if state == "sending":
            await self._fence.flush(claim, Pending(deliveries=[change], events=[event]))
        else:
            claim.pending.deliveries.append(change)
            claim.pending.events.append(event)
        row.state = state

    async def later(self, claim: Claim, delivery_id: str, seconds: float) -> None:
        """Send a delivery of a finished turn after a while."""
        async with self._fence.writing(claim) as session:
            await enqueue(
                self._fence.queue, session, SEND_DELIVERY, after=seconds,
                turn_id=claim.turn.id, delivery_id=delivery_id,
            )  # fmt: skip

    async def settle_asides(self, session: AsyncSession, claim: Claim) -> None:
        """What was said beside the answer and never heard of again: one that was being sent when
        a worker stopped is in doubt."""
        if not claim.resumed:
            return
        becomes = case((Delivery.state == "sending", "in-doubt"), else_="dropped")
        await session.execute(
            update(Delivery)
            .where(
                Delivery.run_id == claim.turn.run_id,
                Delivery.part < 0,
                Delivery.state.in_(("sending", "planned")),
            )
            .values(state=becomes, settled_at=func.now())
        )


async def _known(
    session: AsyncSession, claim: Claim, planned: Sequence[PlannedDelivery]
) -> list[Delivery]:
    """What an earlier attempt wrote down of it."""
    if not claim.resumed:
        return []
    parts = [each.part for each in planned]
    of_run = select(Delivery).where(Delivery.run_id == claim.turn.run_id)
    wanted = of_run.where(Delivery.part.in_(parts)).order_by(Delivery.part)
    return list((await session.execute(wanted)).scalars().all())


def _changed(claim: Claim, row: Delivery, state: str) -> tuple[str, dict[str, Any]]:
    """The event that a delivery is in another state."""
    return claim.event("delivery." + state, delivery=row.id, delivered_as=row.kind)


def _delivery(claim: Claim, planned: PlannedDelivery) -> Delivery:
    return Delivery(
        turn_id=claim.turn.id,
        run_id=claim.turn.run_id,
        kind=planned.kind,
        part=planned.part,
        key=f"{claim.turn.run_id}-{planned.part}",
        text=planned.text,
        clip_id=planned.clip_id,
        extra=planned.extra,
    )
