"""Words to contacts who have not just asked: at once, or kept until their time."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import structlog
from sqlalchemy import Delete, ForeignKey, UniqueConstraint, Update, delete, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import Mapped, mapped_column

from fond_echo.contract.channel import ChannelSettings, Inbound
from fond_echo.contract.reply import Reply
from fond_echo.contract.saying import SaidTo
from fond_echo.store.base import Record, id_column, now_column
from fond_echo.store.database import Database
from fond_echo.store.inbound import take_in_once
from fond_echo.store.records import Channel, Contact, Conversation
from fond_echo.store.records import Inbound as Arrived

AT_ONCE = 50
AGAIN = timedelta(minutes=1)

log = structlog.get_logger()


class OutgoingMessage(Record):
    """Words that wait for their time. Of a channel and key, a contact has one; it goes when it was
    sent on."""

    __tablename__ = "outgoing_messages"
    __table_args__ = (UniqueConstraint("channel", "key", "contact"),)
    id: Mapped[str] = id_column()
    channel: Mapped[str] = mapped_column(
        ForeignKey("channels.name", onupdate="CASCADE", ondelete="CASCADE")
    )
    key: Mapped[str]
    contact: Mapped[str]
    conversation: Mapped[str]
    text: Mapped[str]
    spoken: Mapped[bool]
    due_at: Mapped[datetime] = mapped_column(index=True)
    created_at: Mapped[datetime] = now_column()


async def place_of(
    session: AsyncSession, channel: str, contact_id: str, conversation: str
) -> tuple[str, str]:
    """Where a contact is written to, and why it is not: ("", "opted-out")."""
    wanted = select(Contact).where(Contact.channel == channel, Contact.external_id == contact_id)
    contact = (await session.execute(wanted)).scalar_one_or_none()
    if contact is not None and contact.opted_out:
        return "", "opted-out"
    if contact is not None and contact.standing in ("blocked", "refused"):
        return "", contact.standing
    if contact is not None and not conversation:
        latest = (
            select(Conversation.external_id)
            .where(Conversation.contact_id == contact.id)
            .order_by(Conversation.changed_at.desc())
            .limit(1)
        )
        conversation = (await session.execute(latest)).scalar_one_or_none() or ""
    return conversation, "" if conversation else "unknown"


async def said(
    database: Database, channel: str, settings: ChannelSettings, contact: str, conversation: str,
    text: str, spoken: bool, key: str,
) -> SaidTo:  # fmt: skip
    """Make a turn of words to one contact, and say what became of it."""
    async with database.reading() as session:
        place, why = await place_of(session, channel, contact, conversation)
    if why:
        return SaidTo.model_validate({"contact": contact, "state": why})
    message = Inbound(
        id=f"say-{key}-{contact}", conversation=place, contact=contact, spoken_reply=spoken,
        replies=[Reply(text=text).model_dump(mode="json")],
    )  # fmt: skip
    found = await take_in_once(
        database, channel, settings, message, {}, standing="late", cause="operator"
    )
    if not found.turn_id:
        return SaidTo(contact=contact, state="said-before")
    return SaidTo(contact=contact, state="sent-on", turn=found.turn_id)


async def put_off(
    database: Database, channel: str, contact: str, conversation: str, text: str, spoken: bool,
    key: str, due_at: datetime,
) -> SaidTo:  # fmt: skip
    """Keep words until their time; not twice with the same key, whether they were sent or wait."""
    row = {
        "channel": channel, "key": key, "contact": contact, "conversation": conversation,
        "text": text, "spoken": spoken, "due_at": due_at,
    }  # fmt: skip
    async with database.writing() as session:
        place, why = await place_of(session, channel, contact, conversation)
        if why:
            return SaidTo.model_validate({"contact": contact, "state": why})
        known = select(Arrived.id).where(
            Arrived.channel == channel, Arrived.external_id == f"say-{key}-{contact}"
        )
        if (await session.execute(known)).scalar_one_or_none() is not None:
            return SaidTo(contact=contact, state="said-before")
        kept = insert(OutgoingMessage).values(**row | {"conversation": place})
        made = kept.on_conflict_do_nothing().returning(OutgoingMessage.id)
        if (await session.execute(made)).scalar_one_or_none() is None:
            return SaidTo(contact=contact, state="said-before")
    return SaidTo(contact=contact, state="waiting", due_at=due_at)


async def send_due(database: Database) -> int:
    """Send on what is due, by now: how many there were. Whoever opted out meanwhile is left out."""
    count = 0
    while True:
        async with database.reading() as session:
            due = (
                select(OutgoingMessage, Channel.settings)
                .join(Channel, Channel.name == OutgoingMessage.channel)
                .where(OutgoingMessage.due_at <= datetime.now(UTC))
                .order_by(OutgoingMessage.due_at)
                .limit(AT_ONCE)
            )
            rows = (await session.execute(due)).all()
        for message, settings in rows:
            mine = OutgoingMessage.id == message.id
            done: Delete | Update = delete(OutgoingMessage).where(mine)
            try:
                # The message's id makes it one turn, whoever sends it on, and however often.
                await said(
                    database, message.channel, ChannelSettings.model_validate(settings),
                    message.contact, message.conversation, message.text, message.spoken,
                    message.key,
                )  # fmt: skip
            except Exception:  # of one contact, which must not keep back the others
                log.exception("words could not be sent on", message=message.id)
                later = datetime.now(UTC) + AGAIN
                done = update(OutgoingMessage).where(mine).values(due_at=later)
            async with database.writing() as session:
                await session.execute(done)
        count += len(rows)
        if len(rows) < AT_ONCE:
            return count


async def waiting(session: AsyncSession, channel: str) -> list[OutgoingMessage]:
    """What waits on a channel, the earliest first."""
    wanted = select(OutgoingMessage).where(OutgoingMessage.channel == channel)
    rows = await session.scalars(wanted.order_by(OutgoingMessage.due_at).limit(1_000))
    return list(rows)


async def take_back(session: AsyncSession, channel: str, key: str) -> int:
    """Take back what waits with a key; how many there were."""
    gone = delete(OutgoingMessage).where(
        OutgoingMessage.channel == channel, OutgoingMessage.key == key
    )
    return len((await session.execute(gone.returning(OutgoingMessage.id))).all())
