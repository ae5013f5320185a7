"""Taking a message in: who may, stored once, numbered in its conversation, and enqueued, in one
transaction."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import Row, bindparam, text, update
from sqlalchemy.dialects.postgresql import JSONB, insert
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncSession

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
from fond_echo.store.queue import deferring
from fond_echo.store.records import Contact, Usage

NOTHING: Mapping[str, bytes] = {}
TOLD_AGAIN = timedelta(hours=1)
"""Seconds between two messages to somebody who is not answered."""


_CONTACT = """
    INSERT INTO contacts AS known (id, channel, external_id, name, memory, standing)
    VALUES (:id, :channel, :external_id, :name, '{}', 'new')
    ON CONFLICT (channel, external_id)
    DO UPDATE SET name = coalesce(nullif(excluded.name, ''), known.name)
    RETURNING id, channel, standing, told_at, tester
"""
_WHO = text(_CONTACT)
_DEFER = deferring("CAST(:turn_id AS text)", "CAST(:after AS float8)")
_TURN = text(
    f"""
    WITH contact AS ({_CONTACT}), new AS (
        SELECT id, tester FROM contact
         WHERE (CAST(:decided AS boolean) OR standing = 'allowed'
                OR CAST(:open AS boolean) AND standing <> 'blocked')
           AND NOT EXISTS (
               SELECT FROM inbound WHERE channel = :channel AND external_id = :message_id)
    ), used AS (
        INSERT INTO usage AS today (contact_id, day, turns, seconds_heard, characters_spoken)
        SELECT id, CAST(:day AS date), 1, 0, 0 FROM new
         WHERE CAST(:counts AS boolean) AND NOT tester
        ON CONFLICT (contact_id, day) DO UPDATE SET turns = today.turns + 1
         WHERE (:turns = 0 OR today.turns < :turns)
           AND (:seconds = 0 OR today.seconds_heard < :seconds)
           AND (:characters = 0 OR today.characters_spoken < :characters)
        RETURNING contact_id
    ), counted AS (
        INSERT INTO conversations AS known
            (id, channel, contact_id, external_id, turns, answered, state, answering)
        SELECT :conversation_id, :channel, id, :place, 1, 0, '{{}}', 'assistant' FROM new
         WHERE NOT CAST(:counts AS boolean) OR tester OR EXISTS (SELECT FROM used)
        ON CONFLICT (channel, external_id, contact_id)
        DO UPDATE SET turns = known.turns + 1, changed_at = now() RETURNING id, turns, answered
    ), turn AS (
        INSERT INTO turns
            (id, channel, conversation_id, number, cause, arrived_as, text, route, state,
             standing, epoch)
        SELECT :turn_id, :channel, id, turns, :cause, :arrived_as, :text, '',
               CASE WHEN CAST(:may_wait AS boolean) AND answered < turns - 1
                    THEN 'waiting' ELSE 'received' END, :standing, 0
          FROM counted RETURNING conversation_id, number, state
    ), kept AS (
        INSERT INTO inbound (id, channel, external_id, payload, message, turn_id)
        SELECT :inbound_id, :channel, :message_id, :payload, :message, :turn_id FROM turn
    ), told AS (
        INSERT INTO events (type, subject, data)
        SELECT 'turn.received', :turn_id, jsonb_build_object(
            'channel', CAST(:channel AS text), 'conversation', conversation_id, 'number', number)
            || CASE WHEN (SELECT tester FROM new) THEN '{{"draft": true}}'::jsonb ELSE '{{}}' END
        FROM turn
    ), noticed AS MATERIALIZED (
        SELECT pg_notify('{CHANNEL}', 'turn.received ' || CAST(:turn_id AS text)),
               CASE WHEN CAST(:queued AS boolean) AND state = 'received' THEN {_DEFER} END
          FROM turn
    )
    SELECT contact.*, EXISTS (SELECT FROM noticed) AS made, EXISTS (
               SELECT FROM inbound WHERE channel = :channel AND external_id = :message_id) AS known
      FROM contact
    """
).bindparams(bindparam("payload", type_=JSONB), bindparam("message", type_=JSONB))
"""One statement for all that a message makes, where its sender is answered and it is not known:
arriving is what everything waits for. A turn of which nothing is to be heard waits at once for the
turn before it, whose end enqueues it."""


@dataclass(frozen=True)
class Taken:
    """What became of a message: the turn it made, or why it made none (known, blocked, told)."""

    turn_id: str
    why: str = ""


async def take_in(
    session: AsyncSession,
    channel: str,
    settings: ChannelSettings,
    message: Message,
    payload: dict[str, Any],
    *,
    queued: bool = True,
    standing: str | None = None,
    cause: str = "",
    along: Mapping[str, bytes] = NOTHING,
) -> Taken:
    """Store a message and enqueue its turn, where its sender is answered. In a room of many, what
    is not meant for the assistant is not stored at all.

    Args:
        along: the sound and the files that came with the message, each kept as the clip that its
            handle names; only where its sender is answered.
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
    waits = _waits(meant, settings, queued, standing)
    arriving = _Arriving(channel, settings, meant, payload, queued, standing, cause, waits)
    if waits:
        contact = (await session.execute(_WHO, arriving.who())).one()
        if _is_answered(contact, settings) and (
            known := await added_to_burst(session, channel, contact.id, meant, waits)
        ):
            return Taken(known, "merged")
    row, taken = await arriving.made_by(session)
    if row.known and _is_answered(row, settings):
        return Taken("", "known")
    if not taken.turn_id and standing is None:
        found = await _standing(session, row, settings, meant)
        told_only = found in ("refused", "quota")
        if found == "blocked":
            return Taken("", "blocked")
        if told_only and not await _may_be_told(session, row):
            return Taken("", "told")
        if told_only:
            # What a stranger wrote is not kept.
            kept = meant.model_copy(update={"text": "", "choice": None, "sound": None, "files": []})
            arriving = replace(arriving, message=kept, payload={})
            along = NOTHING
        _, taken = await replace(arriving, standing=found, waits=0.0).made_by(session)
    if not taken.turn_id:
        return Taken("", "known")
    for handle, data in along.items():
        container = sniff(data)
        media_type = container.media_type if container else "application/octet-stream"
        await stored(
            session, PostgresBlobs(), data, media_type, "received",
            turn_id=taken.turn_id, clip_id=handle,
        )  # fmt: skip
    return taken


@dataclass(frozen=True)
class _Arriving:
    """A message on its way in; `standing` is None where it is to be found out."""

    channel: str
    settings: ChannelSettings
    message: Message
    payload: dict[str, Any]
    queued: bool
    standing: str | None
    cause: str
    waits: float

    def who(self) -> dict[str, Any]:
        """Its sender."""
        message = self.message
        return {
            "id": new_id(), "channel": self.channel, "external_id": message.contact,
            "name": message.name,
        }  # fmt: skip

    async def made_by(self, database: AsyncSession | AsyncConnection) -> tuple[Row[Any], Taken]:
        """Its sender as they stand, whether the message is known, and what became of it: nothing
        where it is known, or its sender is not answered."""
        message, quotas, turn_id = self.message, self.settings.quotas, new_id()
        told_only = bool(self.standing) or message.arrived_as in ("other", "joined")
        most = (quotas.turns, quotas.seconds_heard, quotas.characters_spoken)
        values = self.who() | {
            "decided": self.standing is not None,
            "open": self.settings.access.mode == "open",
            "day": datetime.now(UTC).date(),
            "counts": self.standing is None and any(most),
            "turns": most[0],
            "seconds": most[1],
            "characters": most[2],
            "conversation_id": new_id(),
            "place": message.conversation,
            "message_id": message.id,
            "turn_id": turn_id,
            "cause": self.cause or ("greeting" if message.joined else "inbound"),
            "arrived_as": message.arrived_as,
            "text": message.choice or message.text,
            "standing": self.standing or "",
            "inbound_id": new_id(),
            "payload": self.payload,
            "message": message.model_dump(),
            "queued": self.queued,
            "may_wait": self.queued and not self.waits and (told_only or message.is_at_hand),
            "after": self.waits,
        }
        row = (await database.execute(_TURN, values)).one()
        return row, Taken(turn_id) if row.made else Taken("")


def _waits(
    message: Message, settings: ChannelSettings, queued: bool, standing: str | None
) -> float:
    """Seconds in which a message may become part of one before it, and another of it."""
    return settings.merge_seconds if queued and not standing and is_short(message) else 0.0


async def _may_be_told(session: AsyncSession, contact: Any) -> bool:
    """Whether somebody who is not answered has not been told so for a while."""
    now = datetime.now(UTC)
    if contact.told_at is not None and now - contact.told_at < TOLD_AGAIN:
        return False
    await session.execute(update(Contact).where(Contact.id == contact.id).values(told_at=now))
    return True


async def take_in_once(
    database: Database,
    channel: str,
    settings: ChannelSettings,
    message: Message,
    payload: dict[str, Any],
    *,
    queued: bool = True,
    standing: str | None = None,
    cause: str = "",
    along: Mapping[str, bytes] = NOTHING,
) -> Taken:
    """The same, kept at once: by one statement alone, where it takes no more."""
    meant = for_us(message, settings)
    if meant is None:
        return Taken("", "not-addressed")
    try:
        if not along and not _waits(meant, settings, queued, standing):
            arriving = _Arriving(channel, settings, meant, payload, queued, standing, cause, 0.0)
            async with database.alone() as connection:
                row, taken = await arriving.made_by(connection)
            if taken.turn_id:
                return taken
            if row.known and _is_answered(row, settings):
                return Taken("", "known")
        async with database.writing() as session:
            return await take_in(
                session, channel, settings, message, payload,
                queued=queued, standing=standing, cause=cause, along=along,
            )  # fmt: skip
    except IntegrityError:
        # Two deliveries of it at once, perhaps in two conversations: the first is kept.
        return Taken("", "known")


def _is_answered(contact: Row[Any], settings: ChannelSettings) -> bool:
    """Whether a contact is, as they stand."""
    standing = str(contact.standing)
    return standing == "allowed" or (settings.access.mode == "open" and standing != "blocked")


async def _standing(
    session: AsyncSession, contact: Row[Any], settings: ChannelSettings, message: Message
) -> str:
    """What is done with the message of a contact who is not simply answered: blocked, refused,
    quota; welcome where it says the word."""
    access = settings.access
    if _is_answered(contact, settings):
        return "quota"
    if contact.standing == "blocked":
        return "blocked"
    spoken = language_of().writing.spoken_tokens
    said = spoken(message.text)
    if access.mode == "word" and said and said == spoken(access.word):
        await _set_standing(session, contact.id, "allowed")
        return "welcome"
    if contact.standing != "refused":
        await _set_standing(session, contact.id, "refused")
        await emit(session, "contact.refused", contact.id, channel=contact.channel)
    return "refused"


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
