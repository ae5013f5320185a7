"""Connected engines, and what they were asked."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from datetime import UTC, date, datetime, timedelta

from sqlalchemy import func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.engine import EngineAsked
from fond_echo.documents.engine import read_engine
from fond_echo.store.access_records import EngineDay, EngineRecord
from fond_echo.store.events import emit

TRIED = ("done", "failed")

NEAR = 0.8
"""Of a day's budget, when it is warned about."""


async def engines_with_spent(session: AsyncSession) -> list[tuple[EngineRecord, float]]:
    """All connected engines, each with what it cost today."""
    today = datetime.now(UTC).date()
    spent = (
        select(EngineDay.engine, func.sum(EngineDay.cost).label("cost"))
        .where(EngineDay.day == today)
        .group_by(EngineDay.engine)
        .subquery()
    )
    wanted = select(EngineRecord, func.coalesce(spent.c.cost, 0.0)).outerjoin(
        spent, spent.c.engine == EngineRecord.name
    )
    return [(row, float(cost)) for row, cost in (await session.execute(wanted)).all()]


async def count_asked(session: AsyncSession, assistant: str, asked: Iterable[EngineAsked]) -> None:
    """Add what a turn asked of engines to their days."""
    today = datetime.now(UTC).date()
    for each in sorted(asked, key=lambda each: each.engine):
        if each.outcome not in TRIED or each.kind == "function":
            continue
        failed = int(each.outcome == "failed")
        counted = insert(EngineDay).values(
            engine=each.engine, assistant=assistant, day=today, asked=1, failed=failed,
            seconds=each.seconds, cost=each.cost,
        )  # fmt: skip
        await session.execute(
            counted.on_conflict_do_update(
                index_elements=[EngineDay.engine, EngineDay.assistant, EngineDay.day],
                set_={
                    "asked": EngineDay.asked + 1,
                    "failed": EngineDay.failed + failed,
                    "seconds": EngineDay.seconds + each.seconds,
                    "cost": EngineDay.cost + each.cost,
                },
            )
        )
        if each.cost:
            await _watch_budget(session, each)
        if failed:
            await session.execute(
                update(EngineRecord)
                .where(EngineRecord.name == each.engine)
                .values(
                    last_error=_bare(each.why),
                    last_error_at=func.now(),
                    paused_until=_until(each.pause_seconds),
                )
            )


def _until(seconds: float) -> datetime | None:
    return datetime.now(UTC) + timedelta(seconds=seconds) if seconds > 0 else None


async def _watch_budget(session: AsyncSession, each: EngineAsked) -> None:
    """Tell subscriptions when what an engine cost today comes near what it may, and over it."""
    record = await session.get(EngineRecord, each.engine)
    if record is None:
        return
    read = read_engine(record.connector, f"{record.name}.yaml", frozenset(record.values))
    most = read.limits.daily_budget
    if most is None:
        return
    today = select(func.sum(EngineDay.cost)).where(
        EngineDay.engine == each.engine, EngineDay.day == datetime.now(UTC).date()
    )
    spent = float((await session.execute(today)).scalar_one())
    for share, name in ((NEAR, "engine.near-budget"), (1.0, "engine.over-budget")):
        if spent - each.cost < share * most <= spent:
            await emit(session, name, each.engine, spent=round(spent, 6), daily_budget=most)


def _bare(why: str) -> str:
    """Why it failed, without what the service answered: that may hold a person's words, which are
    erased with their turn and nowhere else."""
    return re.sub(r"(answered \d{3}).*", r"\1", why, flags=re.DOTALL)[:300]


async def days_of(session: AsyncSession, names: Sequence[str], since: date) -> list[EngineDay]:
    """The days of some engines, summed over assistants, newest first."""
    wanted = (
        select(
            EngineDay.engine, EngineDay.day, func.sum(EngineDay.asked), func.sum(EngineDay.failed),
            func.sum(EngineDay.seconds), func.sum(EngineDay.cost),
        )
        .where(EngineDay.engine.in_(names), EngineDay.day >= since)
        .group_by(EngineDay.engine, EngineDay.day)
        .order_by(EngineDay.day.desc())
    )  # fmt: skip
    return [
        EngineDay(engine=engine, assistant="", day=day, asked=int(asked), failed=int(failed),
                  seconds=float(seconds), cost=float(cost))
        for engine, day, asked, failed, seconds, cost in (await session.execute(wanted)).all()
    ]  # fmt: skip
