"""Erasing: what is erased is erased everywhere, and the record says that it was.

Erased are words (of turns, stages, deliveries, inbound messages, memory), names, and sound with
its bytes. What stays: that there was a turn, when, over which line, its route, its stages' lengths.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import ColumnElement, delete, func, select, text, update
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.line import LineSettings
from fond_echo.store.blobs import BlobStore
from fond_echo.store.calls import erase_calls, keep_calls_no_longer
from fond_echo.store.records import (
    ClipRecord,
    Contact,
    Conversation,
    Delivery,
    Inbound,
    Line,
    Run,
    Stage,
    Turn,
)

AT_ONCE = 200
"""Turns erased in one transaction by retention."""


_STATES = text(
    """
    UPDATE conversations SET state = state - 'recent' - 'last'
     WHERE id IN (SELECT conversation_id FROM turns WHERE id = ANY(:ids))
    """
)
_LATER_STATES = text(
    """
    UPDATE runs SET state_before = state_before - 'recent' - 'last' - 'open' - 'meant'
     WHERE turn_id IN (
        SELECT id FROM turns WHERE conversation_id IN (
            SELECT conversation_id FROM turns WHERE id = ANY(:ids)))
    """
)
"""A conversation remembers its last turns, and so do the runs that came after them."""


async def erase_contact(session: AsyncSession, blobs: BlobStore, contact: Contact) -> int:
    """Erase a contact's turns, memory and name; gives how many turns."""
    mine = select(Conversation.id).where(Conversation.contact_id == contact.id)
    turns = select(Turn.id).where(Turn.conversation_id.in_(mine))
    found = (await session.execute(turns)).scalars().all()
    await erase_sound(session, blobs, found)
    await erase_words(session, found)
    await erase_calls(session, blobs, contact.line, contact.outside_id)
    contact.memory, contact.name = {}, ""
    contact.erased_at = datetime.now(UTC)
    await session.execute(
        update(Conversation).where(Conversation.contact_id == contact.id).values(state={})
    )
    return len(found)


async def erase_words(session: AsyncSession, turn_ids: Sequence[str]) -> None:
    """Erase what turns say, in every record of them."""
    ids = list(turn_ids)
    runs = select(Run.id).where(Run.turn_id.in_(ids))
    await session.execute(
        update(Turn).where(Turn.id.in_(ids)).values(text="", erased_at=func.now())
    )
    await session.execute(
        update(Stage).where(Stage.run_id.in_(runs)).values(input={}, output={}, error=None)
    )
    await session.execute(
        update(Run).where(Run.turn_id.in_(ids)).values(state_before={}, memory_before={})
    )
    await session.execute(
        update(Delivery)
        .where(Delivery.turn_id.in_(ids))
        .values(text="", extra={}, exchanges=[], error=None)
    )
    await session.execute(_LATER_STATES, {"ids": ids})
    await session.execute(_STATES, {"ids": ids})
    blank = {"id": "", "conversation": "", "contact": ""}
    await session.execute(
        update(Inbound).where(Inbound.turn_id.in_(ids)).values(payload={}, message=blank)
    )


async def erase_sound(session: AsyncSession, blobs: BlobStore, turn_ids: Sequence[str]) -> int:
    """Erase the sound of turns, at every stage; gives how many clips."""
    ids = list(turn_ids)
    outputs = select(Stage.output).join(Run, Run.id == Stage.run_id).where(Run.turn_id.in_(ids))
    clips: set[str] = set()
    for output in (await session.execute(outputs)).scalars():
        clips |= set(_clips_in(output))
    sent = select(Delivery.clip_id).where(Delivery.turn_id.in_(ids), Delivery.clip_id.is_not(None))
    clips |= {each for each in (await session.execute(sent)).scalars() if each}
    await session.execute(update(Delivery).where(Delivery.turn_id.in_(ids)).values(clip_id=None))
    found = select(ClipRecord).where(ClipRecord.id.in_(clips))
    records = (await session.execute(found)).scalars().all()
    for record in records:
        await session.execute(delete(ClipRecord).where(ClipRecord.id == record.id))
        await blobs.release(session, record.digest)
    return len(records)


def _clips_in(tree: Any) -> list[str]:
    """The ids of clips anywhere in a stage's output."""
    if isinstance(tree, dict):
        own = [tree["id"]] if {"id", "media_type", "waveform"} <= set(tree) else []
        return own + [found for value in tree.values() for found in _clips_in(value)]
    if isinstance(tree, list):
        return [found for value in tree for found in _clips_in(value)]
    return []


async def keep_no_longer(session: AsyncSession, blobs: BlobStore, now: datetime) -> int:
    """Erase what lines keep no longer, some turns at a time; gives how many it was.

    Call it again until it gives 0.
    """
    count = 0
    for line in (await session.execute(select(Line))).scalars().all():
        keeping = LineSettings.model_validate(line.settings).keeping
        if keeping.sound_days:
            has_sound = select(Delivery.id).where(
                Delivery.turn_id == Turn.id, Delivery.clip_id.is_not(None)
            )
            fetched = (
                select(Stage.id)
                .join(Run, Run.id == Stage.run_id)
                .where(Run.turn_id == Turn.id, Stage.name == "fetch", Stage.output != {})
            )
            old = await _old(
                session, line, now, keeping.sound_days, has_sound.exists() | fetched.exists()
            )
            await erase_sound(session, blobs, old)
            await _forget_clips(session, old)
            before = now - timedelta(days=keeping.sound_days)
            count += len(old) + await keep_calls_no_longer(
                session, blobs, line.name, before, words=False, most=AT_ONCE
            )
        if keeping.words_days:
            old = await _old(session, line, now, keeping.words_days, Turn.erased_at.is_(None))
            await erase_sound(session, blobs, old)
            await erase_words(session, old)
            before = now - timedelta(days=keeping.words_days)
            await _forget_the_absent(session, line, before)
            count += len(old) + await keep_calls_no_longer(
                session, blobs, line.name, before, words=True, most=AT_ONCE
            )
    return count


async def _forget_the_absent(session: AsyncSession, line: Line, since: datetime) -> None:
    """What is remembered of contacts that were not heard of lately goes with their words."""
    lately = select(Conversation.contact_id).where(
        Conversation.line == line.name, Conversation.changed_at >= since
    )
    absent = (Contact.line == line.name) & Contact.id.not_in(lately)
    await session.execute(update(Contact).where(absent).values(memory={}))
    await session.execute(
        update(Conversation)
        .where(Conversation.line == line.name, Conversation.changed_at < since)
        .values(state={})
    )


async def _old(
    session: AsyncSession, line: Line, now: datetime, days: int, condition: ColumnElement[bool]
) -> Sequence[str]:
    wanted = (
        select(Turn.id)
        .join(Conversation, Conversation.id == Turn.conversation_id)
        .where(
            Conversation.line == line.name,
            Turn.received_at < now - timedelta(days=days),
            Turn.state.in_(("answered", "failed")),
            condition,
        )
        .limit(AT_ONCE)
    )
    return (await session.execute(wanted)).scalars().all()


async def _forget_clips(session: AsyncSession, turn_ids: Sequence[str]) -> None:
    """Stages that made sound say no more where it is; their words stay."""
    runs = select(Run.id).where(Run.turn_id.in_(list(turn_ids)))
    await session.execute(
        update(Stage)
        .where(Stage.run_id.in_(runs), Stage.name.in_(("fetch", "decode", "speak", "encode")))
        .values(output={})
    )
