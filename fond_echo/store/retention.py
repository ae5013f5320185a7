"""Retention: what channels keep no longer is erased, and what nobody needs any more is deleted,
some at a time, each batch in a transaction of its own."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, TextClause, exists, select, text, update
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.channel import ChannelSettings
from fond_echo.store.blobs import BlobStore
from fond_echo.store.calls import Call, keep_calls_no_longer
from fond_echo.store.clips import delete_clips
from fond_echo.store.database import Database
from fond_echo.store.erasing import AT_ONCE, erase_sound, erase_words, finish_erasing
from fond_echo.store.records import Channel, ClipRecord, Contact, Conversation, Rendition, Turn

Batch = Callable[[AsyncSession], Awaitable[int]]

ROWS_AT_ONCE = 2_000
USAGE_DAYS = 62
UNUSED_HOURS = 1
"""A clip that nothing refers to is deleted after so long."""

FINISHED = ("answered", "failed", "cancelled")

_OUTLIVED = {
    "events": "at < now() - make_interval(days => :days)",
    "sign_ins": "expires_at < now()",
    "usage": "day < current_date - :days",
    "key_usage": "day < current_date - :days",
    "renditions": "expires_at < now()",
    "guest_counts": "hour < now() - interval '2 hours'",
    "webhook_deliveries": "state = 'sent' AND created_at < now() - interval '1 hour'",
}
"""Rows that nobody needs any more, by table."""


async def retain(database: Database, blobs: BlobStore, now: datetime, *, event_days: int) -> int:
    """Erase and delete everything whose time has passed; gives how many turns, calls and rows.

    Args:
        event_days: how long events can be read.
    """
    count = await finish_erasing(database, blobs)
    async with database.reading() as session:
        channels = list((await session.execute(select(Channel))).scalars())
    for channel in channels:
        count += await _of_channel(database, blobs, channel, now)
    days = {"events": event_days, "usage": USAGE_DAYS, "key_usage": USAGE_DAYS}
    for table in _OUTLIVED:
        count += await _all(database, _deleting(table, days.get(table, 0)))
    return count + await _all(database, _unused_clips(blobs))


async def _all(database: Database, batch: Batch) -> int:
    """A batch, again until it finds nothing; gives how many it were in all."""
    total = 0
    while True:
        async with database.writing() as session:
            count = await batch(session)
        total += count
        if not count:
            return total


async def _of_channel(database: Database, blobs: BlobStore, channel: Channel, now: datetime) -> int:
    kept = ChannelSettings.model_validate(channel.settings).retention
    count = 0
    for days, words in ((kept.sound_days, False), (kept.text_days, True)):
        if not days:
            continue
        before = now - timedelta(days=days)

        async def turns(
            session: AsyncSession, before: datetime = before, words: bool = words
        ) -> int:
            kept = Turn.erased_at if words else Turn.sound_erased_at
            old = await _old(session, channel.name, before, kept.is_(None))
            await erase_sound(session, blobs, old)
            if words:
                await erase_words(session, old)
            return len(old)

        async def calls(
            session: AsyncSession, before: datetime = before, words: bool = words
        ) -> int:
            return await keep_calls_no_longer(
                session, blobs, channel.name, before, words=words, most=AT_ONCE
            )

        count += await _all(database, turns) + await _all(database, calls)
        if words:
            async with database.writing() as session:
                await _forget_the_absent(session, channel.name, before)
    return count


async def _old(
    session: AsyncSession, channel: str, before: datetime, kept: ColumnElement[bool]
) -> Sequence[str]:
    wanted = (
        select(Turn.id)
        .where(Turn.channel == channel, Turn.received_at < before, Turn.state.in_(FINISHED), kept)
        .order_by(Turn.received_at)
        .limit(AT_ONCE)
    )
    return (await session.execute(wanted)).scalars().all()


async def _forget_the_absent(session: AsyncSession, channel: str, since: datetime) -> None:
    """Of contacts that were not heard of lately, what is remembered, their names and their ids go
    with their words; but of those whom somebody allowed or blocked, only what is remembered."""
    lately = exists().where(Conversation.contact_id == Contact.id, Conversation.changed_at >= since)
    absent = (Contact.channel == channel) & (Contact.first_seen_at < since) & ~lately
    known = Contact.erased_at.is_(None) & Contact.standing.in_(("new", "refused"))
    gone = (
        update(Contact)
        .where(absent, known)
        .values(name="", external_id="erased-" + Contact.id, memory={}, erased_at=since)
        .returning(Contact.id)
    )
    ids = (await session.execute(gone)).scalars().all()
    await session.execute(update(Contact).where(absent, Contact.memory != {}).values(memory={}))
    await session.execute(
        update(Conversation)
        .where(Conversation.contact_id.in_(ids))
        .values(external_id="erased-" + Conversation.id)
    )
    await session.execute(
        update(Conversation)
        .where(
            Conversation.channel == channel,
            Conversation.changed_at < since,
            Conversation.state != {},
        )
        .values(state={})
    )


def _deleting(table: str, days: int) -> Batch:
    condition = _OUTLIVED[table]
    statement: TextClause = text(
        f"DELETE FROM {table} WHERE ctid = ANY(ARRAY("
        f"SELECT ctid FROM {table} WHERE {condition} LIMIT {ROWS_AT_ONCE}))"
    )
    values = {"days": days} if ":days" in condition else {}

    async def delete(session: AsyncSession) -> int:
        return int((await session.execute(statement, values)).rowcount)  # type: ignore[attr-defined]

    return delete


def _unused_clips(blobs: BlobStore) -> Batch:
    """Sound that belongs to no turn, and to no call either."""
    old = ClipRecord.created_at < datetime.now(UTC) - timedelta(hours=UNUSED_HOURS)
    of_call = exists().where(
        (Call.recording_id == ClipRecord.id)
        | (Call.order["opening"]["sound"].astext == ClipRecord.id)
    )
    linked = exists().where(Rendition.clip_id == ClipRecord.id)
    some = (
        select(ClipRecord.id)
        .where(ClipRecord.turn_id.is_(None), old, ~of_call, ~linked)
        .limit(AT_ONCE)
    )

    async def delete(session: AsyncSession) -> int:
        ids = (await session.execute(some)).scalars().all()
        return await delete_clips(session, blobs, ClipRecord.id.in_(ids)) if ids else 0

    return delete
