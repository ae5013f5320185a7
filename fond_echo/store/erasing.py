"""Erasing: what is erased is erased everywhere, and the record says that it was.

Erased are words (of turns, stages, deliveries, inbound messages, memory), names, the network's ids
of persons and messages, and sound with its bytes. What stays: that there was a turn, when, over
which channel, its route, its stages' lengths. Everything is done some turns at a time, so that no
transaction is long; what was begun and interrupted is finished by `finish_erasing`.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

from sqlalchemy import delete, func, select, text, update
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.store.blobs import BlobStore
from fond_echo.store.calls import erase_calls
from fond_echo.store.clips import delete_clips
from fond_echo.store.database import Database
from fond_echo.store.events import emit
from fond_echo.store.records import (
    ClipRecord,
    Contact,
    Conversation,
    Delivery,
    Inbound,
    Run,
    Stage,
    Turn,
)
from fond_echo.store.saying import OutgoingMessage

AT_ONCE = 20
"""Turns erased in one transaction."""

UNFINISHED = ("received", "working", "waiting")
SOUND_STAGES = ("fetch", "decode", "speak", "encode")

_STATES = text(
    """
    UPDATE conversations SET state = state - 'recent' - 'last'
     WHERE id IN (SELECT conversation_id FROM turns WHERE id = ANY(:ids))
    """
)
_FOLLOWERS = text(
    """
    SELECT DISTINCT later.id
      FROM turns AS erased
     CROSS JOIN LATERAL (
           SELECT id FROM turns
            WHERE conversation_id = erased.conversation_id AND erased_at IS NULL
              AND number > erased.number AND number <= erased.number + :remembered
           OFFSET 0) AS later
     WHERE erased.id = ANY(:ids)
    """
)
"""Turns that may remember those that are erased, found turn by turn by their conversation's index;
left to itself the planner read all turns for it."""

_LATER_STATES = text(
    """
    UPDATE runs SET state_before = state_before - 'recent' - 'last' - 'open' - 'meant' - 'offered'
     WHERE turn_id = ANY(:ids)
       AND state_before ?| ARRAY['recent', 'last', 'open', 'meant', 'offered']
    """
)
"""A conversation remembers its last turns, and so do the runs that came after them."""

REMEMBERED = 20
"""So many turns later nothing of a turn is in a run's state; `turns.closing` keeps fewer."""

_WEBHOOK_DELIVERIES = text("DELETE FROM webhook_deliveries WHERE event->>'subject' = ANY(:ids)")


async def erase_contact(database: Database, blobs: BlobStore, contact_id: str) -> int:
    """Erase a contact's turns, calls, memory, name and ids; gives how many turns.

    Turns that were not finished are cancelled first: a worker that has one can write nothing more.
    """
    async with database.writing() as session:
        contact = await session.get_one(Contact, contact_id, with_for_update=True)
        await _cancel(session, contact)
        await erase_calls(session, blobs, contact.channel, contact.external_id)
        await session.execute(
            delete(OutgoingMessage).where(
                OutgoingMessage.channel == contact.channel,
                OutgoingMessage.contact == contact.external_id,
            )
        )
        contact.memory, contact.name, contact.tester = {}, "", False
        contact.external_id = f"erased-{contact.id}"
        contact.erased_at = datetime.now(UTC)
        await session.execute(
            update(Conversation)
            .where(Conversation.contact_id == contact_id)
            .values(state={}, external_id="erased-" + Conversation.id)
        )
        await emit(session, "contact.erased", contact_id, channel=contact.channel)
    return await _erase_turns(database, blobs, contact_id)


async def finish_erasing(database: Database, blobs: BlobStore) -> int:
    """Go on with contacts whose erasing was interrupted; gives how many turns were left."""
    left = (
        select(Contact.id)
        .where(
            Contact.erased_at.is_not(None),
            select(Turn.id)
            .join(Conversation, Conversation.id == Turn.conversation_id)
            .where(Conversation.contact_id == Contact.id, Turn.erased_at.is_(None))
            .exists(),
        )
        .limit(AT_ONCE)
    )
    async with database.reading() as session:
        contacts = (await session.execute(left)).scalars().all()
    return sum([await _erase_turns(database, blobs, each) for each in contacts])


async def _erase_turns(database: Database, blobs: BlobStore, contact_id: str) -> int:
    some = (
        select(Turn.id)
        .join(Conversation, Conversation.id == Turn.conversation_id)
        .where(Conversation.contact_id == contact_id, Turn.erased_at.is_(None))
        .limit(AT_ONCE)
    )
    count = 0
    while True:
        async with database.writing() as session:
            ids = (await session.execute(some)).scalars().all()
            await erase_sound(session, blobs, ids)
            await erase_words(session, ids)
        count += len(ids)
        if len(ids) < AT_ONCE:
            return count


async def _cancel(session: AsyncSession, contact: Contact) -> None:
    """End a contact's unfinished turns, whoever has them."""
    mine = select(Conversation.id).where(Conversation.contact_id == contact.id)
    ended = (
        update(Turn)
        .where(Turn.conversation_id.in_(mine), Turn.state.in_(UNFINISHED))
        .values(state="cancelled", epoch=Turn.epoch + 1, finished_at=func.now())
        .returning(Turn.id, Turn.conversation_id)
    )
    rows = (await session.execute(ended)).all()
    await session.execute(
        update(Delivery)
        .where(
            Delivery.turn_id.in_([row.id for row in rows]),
            Delivery.state.in_(("planned", "sending")),
        )
        .values(state="dropped", settled_at=func.now())
    )
    await session.execute(
        update(Conversation)
        .where(Conversation.contact_id == contact.id)
        .values(answered=Conversation.turns)
    )
    for row in rows:
        await emit(
            session,
            "turn.cancelled",
            row.id,
            channel=contact.channel,
            conversation=row.conversation_id,
        )


async def erase_words(session: AsyncSession, turn_ids: Sequence[str]) -> None:
    """Erase what turns say, in every record of them."""
    ids = list(turn_ids)
    if not ids:
        return
    followers = await session.execute(_FOLLOWERS, {"ids": ids, "remembered": REMEMBERED})
    await session.execute(_LATER_STATES, {"ids": followers.scalars().all()})
    await session.execute(_STATES, {"ids": ids})
    runs = select(Run.id).where(Run.turn_id.in_(ids))
    await session.execute(
        update(Turn).where(Turn.id.in_(ids)).values(text="", error=None, erased_at=func.now())
    )
    await session.execute(
        update(Stage)
        .where(Stage.run_id.in_(runs))
        .values(input={}, output={}, error=None, erased_at=func.now())
    )
    await session.execute(
        update(Run).where(Run.turn_id.in_(ids)).values(state_before={}, memory_before={})
    )
    await session.execute(
        update(Delivery)
        .where(Delivery.turn_id.in_(ids))
        .values(text="", extra={}, exchanges=[], error=None, external_id="")
    )
    blank = {"id": "", "conversation": "", "contact": ""}
    await session.execute(
        update(Inbound)
        .where(Inbound.turn_id.in_(ids))
        .values(payload={}, message=blank, external_id="erased-" + Inbound.id)
    )
    await session.execute(_WEBHOOK_DELIVERIES, {"ids": ids})


async def erase_sound(session: AsyncSession, blobs: BlobStore, turn_ids: Sequence[str]) -> int:
    """Erase the sound of turns, at every stage; gives how many clips. Their words stay."""
    ids = list(turn_ids)
    if not ids:
        return 0
    await session.execute(update(Turn).where(Turn.id.in_(ids)).values(sound_erased_at=func.now()))
    await session.execute(update(Delivery).where(Delivery.turn_id.in_(ids)).values(clip_id=None))
    count = await delete_clips(session, blobs, ClipRecord.turn_id.in_(ids))
    runs = select(Run.id).where(Run.turn_id.in_(ids))
    await session.execute(
        update(Stage)
        .where(Stage.run_id.in_(runs), Stage.name.in_(SOUND_STAGES))
        .values(output={}, erased_at=func.now())
    )
    return count
