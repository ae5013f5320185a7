"""Events: written with what they tell of, read in the order of commits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import bindparam, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.base import JsonObject
from fond_echo.store.notices import CHANNEL


@dataclass(frozen=True, order=True)
class Cursor:
    """A place in the order of events: nothing committed later ever comes before it."""

    transaction: int
    id: int

    @classmethod
    def parse(cls, value: str) -> Cursor:
        """Raises ValueError for anything but "NUMBER-NUMBER"."""
        transaction, _, number = value.partition("-")
        return cls(int(transaction), int(number))

    def __str__(self) -> str:
        return f"{self.transaction}-{self.id}"


@dataclass(frozen=True)
class StoredEvent:
    """An event as it is read."""

    cursor: Cursor
    type: str
    subject: str
    data: JsonObject
    at: datetime


_EMIT = text(
    f"""
    WITH written AS (
        INSERT INTO events (type, subject, data)
        SELECT event->>0, event->>1, event->2
          FROM jsonb_array_elements(:events) WITH ORDINALITY AS given (event, place)
         ORDER BY place
        RETURNING type, subject)
    SELECT pg_notify('{CHANNEL}', type || ' ' || subject) FROM written
    """
).bindparams(bindparam("events", type_=JSONB))


async def emit_all(session: AsyncSession, events: Sequence[tuple[str, str, JsonObject]]) -> None:
    """Write events in order in the session's transaction; listeners wake when it commits, and are
    told type and subject of each.

    Args:
        events: type, subject and data of each.
    """
    await session.execute(_EMIT, {"events": [list(each) for each in events]})


async def emit(session: AsyncSession, type: str, subject: str, **data: Any) -> None:
    """Write one event, as `emit_all` does."""
    await emit_all(session, [(type, subject, data)])


_NOW = text("SELECT pg_snapshot_xmin(pg_current_snapshot())::text::bigint AS transaction")

_AFTER = text(
    """
    SELECT transaction::text::bigint AS transaction, id, type, subject, data, at
      FROM events
     WHERE transaction < pg_snapshot_xmin(pg_current_snapshot())
       AND transaction >= CAST(CAST(:transaction AS text) AS xid8)
       AND (transaction > CAST(CAST(:transaction AS text) AS xid8) OR id > :id)
     ORDER BY transaction, id
     LIMIT :most
    """
)


async def present(session: AsyncSession) -> Cursor:
    """The place after everything that is committed now and can be read."""
    return Cursor((await session.execute(_NOW)).scalar_one(), 0)


async def events_after(
    session: AsyncSession, cursor: Cursor, *, most: int = 500
) -> list[StoredEvent]:
    """Events after a place, in order. Those of transactions that may still be overtaken by
    an older one that runs are not given yet."""
    rows = await session.execute(
        _AFTER, {"transaction": cursor.transaction, "id": cursor.id, "most": most}
    )
    return [
        StoredEvent(Cursor(row.transaction, row.id), row.type, row.subject, row.data, row.at)
        for row in rows
    ]
