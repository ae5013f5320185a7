"""Taking a message in: who may, stored once, numbered in its conversation, and enqueued, in one
transaction."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import procrastinate
from sqlalchemy import bindparam, text, update
from sqlalchemy.dialects.postgresql import JSONB, insert
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.base import new_id
from fond_echo.contract.channel import ChannelSettings
from fond_echo.contract.channel import Inbound as Message
from fond_echo.core.audio.sniff import sniff
from fond_echo.core.language.registry import language as language_of
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.bursts import added_to_burst, for_us, is_short
from fond_echo.store.clips import stored
from fond_echo.store.database import Database
from fond_echo.store.events import emit
from fond_echo.store.notices import CHANNEL
from fond_echo.store.queue import WORK_TURN, enqueue
from fond_echo.store.records import Contact, Usage

TOLD_AGAIN = timedelta(hours=1)
"""Somebody who is not answered is told so at most this often."""


_CONTACT = text(
    """
    INSERT INTO contacts AS known (id, channel, external_id, name, memory, standing)
    VALUES (:id, :channel, :external_id, :name, '{}', 'new')
    ON CONFLICT (channel, external_id)
    DO UPDATE SET name = coalesce(nullif(excluded.name, ''), known.name)
    RETURNING id, channel, standing, told_at
    """
)
_TURN = text(
    f"""
    WITH counted AS (
        INSERT INTO conversations AS known
            (id, channel, contact_id, external_id, turns, answered, state, answering)
        SELECT :conversation_id, :channel, :contact_id, :place, 1, 0, '{{}}', 'assistant' WHERE NOT
        EXISTS (SELECT FROM inbound WHERE channel = :channel AND external_id = :message_id) ON
        CONFLICT (channel, external_id, contact_id) DO UPDATE SET turns = known.turns + 1,
        changed_at = now() RETURNING id, turns
    ), turn AS (
        INSERT INTO turns
            (id, channel, conversation_id, number, cause, arrived_as, text, route, state,
             standing, epoch)
        SELECT :turn_id, :channel, id, turns, :cause, :arrived_as, :text, '', 'received', :standing,
        0 FROM counted RETURNING conversation_id, number
    ), kept AS (
        INSERT INTO inbound (id, channel, external_id, payload, message, turn_id)
        SELECT :inbound_id, :channel, :message_id, :payload, :message, :turn_id FROM turn
    ), told AS (
        INSERT INTO events (type, subject, data)
        SELECT 'turn.received', :turn_id, jsonb_build_object(
            'channel', CAST(:channel AS text), 'conversation', conversation_id, 'number', number)
        FROM turn RETURNING 1
    )
    SELECT pg_notify('{CHANNEL}', 'turn.received ' || CAST(:turn_id AS text)) FROM told
    """
).bindparams(bindparam("payload", type_=JSONB), bindparam("message", type_=JSONB))
"""One statement for all that a message makes: arriving is what everything waits for."""


@dataclass(frozen=True)
class Taken:
    """What became of a message: the turn it made, or why it made none (known, blocked, told)."""

    turn_id: str
    why: str = ""


async def take_in(
    session: AsyncSession,
    queue: procrastinate.App,
    channel: str,
    settings: ChannelSettings,
    message: Message,
    payload: dict[str, Any],
    *,
    queued: bool = True,
    standing: str | None = None,
    cause: str = "",
    sound: bytes = b"",
) -> Taken:
    """Store a message and enqueue its turn, where its sender is answered. In a room of many, what
    is not meant for the assistant is not stored at all.

    Args:
        sound: came with the message, and is kept as the clip that its handle names; only where its
            sender is answered.
        queued: without it, whoever took it in carries the turn.
        standing: how its sender stands, where that is not to be found out.
        cause: of the turn; else it is inbound, or greeting.

    Of two deliveries of one message at the same moment, one takes the conversation's next number;
    the other finds the message's id taken.

    Raises:
        IntegrityError: it was the other one.
    """
    meant = for_us(message, settings)
    if meant is None:
        return Taken("", "not-addressed")
    message = meant
    who = {"id": new_id(), "channel": channel, "external_id": message.contact, "name": message.name}
    contact = (await session.execute(_CONTACT, who)).one()
    if standing is None:
        standing = await _standing(session, contact, settings, message)
    if standing == "blocked":
        return Taken("", "blocked")
    told_only = standing in ("refused", "quota")
    if told_only and not await _may_be_told(session, contact):
        return Taken("", "told")
    waits = settings.burst_seconds if queued and not standing and is_short(message) else 0.0
    if waits and (known := await added_to_burst(session, channel, contact.id, message, waits)):
        return Taken(known, "merged")
    turn_id = new_id()
    made = await session.execute(
        _TURN,
        {
            "channel": channel,
            "conversation_id": new_id(),
            "contact_id": contact.id,
            "place": message.conversation,
            "message_id": message.id,
            "turn_id": turn_id,
            "cause": cause or ("greeting" if message.joined else "inbound"),
            "arrived_as": message.arrived_as,
            "text": "" if told_only else message.choice or message.text,
            "standing": standing,
            "inbound_id": new_id(),
            # What a stranger wrote is not kept.
            "payload": {} if told_only else payload,
            "message": _kept(message, told_only).model_dump(),
        },
    )
    if not made.first():
        await session.rollback()
        return Taken("", "known")
    if sound and message.sound is not None and not told_only:
        container = sniff(sound)
        media_type = container.media_type if container else "application/octet-stream"
        await stored(
            session, PostgresBlobs(), sound, media_type, "received",
            turn_id=turn_id, clip_id=message.sound.handle,
        )  # fmt: skip
    if queued:
        await enqueue(queue, session, WORK_TURN, after=waits, turn_id=turn_id)
    return Taken(turn_id)


async def _may_be_told(session: AsyncSession, contact: Any) -> bool:
    """Whether somebody who is not answered has not been told so for a while."""
    now = datetime.now(UTC)
    if contact.told_at is not None and now - contact.told_at < TOLD_AGAIN:
        return False
    await session.execute(update(Contact).where(Contact.id == contact.id).values(told_at=now))
    return True


async def take_in_once(
    database: Database,
    queue: procrastinate.App,
    channel: str,
    settings: ChannelSettings,
    message: Message,
    payload: dict[str, Any],
    *,
    queued: bool = True,
    standing: str | None = None,
    cause: str = "",
    sound: bytes = b"",
) -> Taken:
    """The same in a transaction of its own."""
    try:
        async with database.writing() as session:
            return await take_in(
                session, queue, channel, settings, message, payload,
                queued=queued, standing=standing, cause=cause, sound=sound,
            )  # fmt: skip
    except IntegrityError:
        # The same message id in two conversations at once: the first is kept.
        return Taken("", "known")


def _kept(message: Message, told_only: bool) -> Message:
    if not told_only:
        return message
    return message.model_copy(update={"text": "", "choice": None, "sound": None})


async def _standing(
    session: AsyncSession, contact: Any, settings: ChannelSettings, message: Message
) -> str:
    """What is done with a contact's message: "" to answer it; blocked, refused, quota; welcome
    where it says the word."""
    access, quotas = settings.access, settings.quotas
    if contact.standing == "blocked":
        return "blocked"
    if access.mode != "open" and contact.standing != "allowed":
        spoken = language_of().writing.spoken_tokens
        said = spoken(message.text)
        if access.mode == "word" and said and said == spoken(access.word):
            await _set_standing(session, contact.id, "allowed")
            return "welcome"
        if contact.standing != "refused":
            await _set_standing(session, contact.id, "refused")
            await emit(session, "contact.refused", contact.id, channel=contact.channel)
        return "refused"
    if not (quotas.turns or quotas.seconds_heard or quotas.characters_spoken):
        return ""
    today = datetime.now(UTC).date()
    used = await session.get(Usage, (contact.id, today))
    if used is not None and (
        (quotas.turns and used.turns >= quotas.turns)
        or (quotas.seconds_heard and used.seconds_heard >= quotas.seconds_heard)
        or (quotas.characters_spoken and used.characters_spoken >= quotas.characters_spoken)
    ):
        return "quota"
    counted = insert(Usage).values(contact_id=contact.id, day=today, turns=1)
    await session.execute(
        counted.on_conflict_do_update(
            index_elements=[Usage.contact_id, Usage.day], set_={"turns": Usage.turns + 1}
        )
    )
    return ""


async def _set_standing(session: AsyncSession, contact_id: str, standing: str) -> None:
    await session.execute(update(Contact).where(Contact.id == contact_id).values(standing=standing))


async def count_use(
    session: AsyncSession, contact_id: str, seconds_heard: float, characters_spoken: int
) -> None:
    """Add to what a contact used today."""
    if not (seconds_heard or characters_spoken):
        return
    counted = insert(Usage).values(
        contact_id=contact_id,
        day=datetime.now(UTC).date(),
        seconds_heard=seconds_heard,
        characters_spoken=characters_spoken,
    )
    await session.execute(
        counted.on_conflict_do_update(
            index_elements=[Usage.contact_id, Usage.day],
            set_={
                "seconds_heard": Usage.seconds_heard + seconds_heard,
                "characters_spoken": Usage.characters_spoken + characters_spoken,
            },
        )
    )
