"""Words to contacts who have not just asked: queued for now, or for a time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import structlog
from sqlalchemy import ForeignKey, UniqueConstraint, and_, delete, select, text
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import Mapped, mapped_column

from fond_echo.contract.base import new_id
from fond_echo.contract.channel import ChannelSettings, Inbound
from fond_echo.contract.reply import Reply
from fond_echo.contract.saying import SaidTo
from fond_echo.store.base import Record, id_column, now_column
from fond_echo.store.database import Database
from fond_echo.store.inbound import take_in_once
from fond_echo.store.records import Channel, Contact

AT_ONCE = 50
AGAIN_SECONDS = 60

log = structlog.get_logger()


class OutgoingMessage(Record):
    """Words that are to be sent. Of a channel and key, a contact has one; it is deleted when its
    turn is made."""

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


@dataclass(frozen=True)
class Outgoing:
    """Words for one contact by its id on the network; `conversation` is "" for where it wrote
    last."""

    contact: str
    conversation: str
    text: str


_STANDING = text(
    """
    SELECT contacts.external_id, contacts.opted_out, contacts.standing,
           (SELECT external_id FROM conversations WHERE contact_id = contacts.id
             ORDER BY changed_at DESC LIMIT 1) AS place,
           EXISTS (SELECT FROM inbound WHERE inbound.channel = contacts.channel
                      AND inbound.external_id = 'say-' || :key || '-' || contacts.external_id)
             AS sent
      FROM contacts WHERE channel = :channel AND external_id = ANY(:ids)
    """
)
_CLAIM = text(
    """
    UPDATE outgoing_messages SET due_at = now() + make_interval(secs => :seconds)
     WHERE id IN (SELECT id FROM outgoing_messages WHERE due_at <= now()
                   ORDER BY due_at LIMIT :most FOR UPDATE SKIP LOCKED)
    RETURNING id
    """
)


async def queue_messages(
    session: AsyncSession, channel: str, key: str, outgoing: Sequence[Outgoing], spoken: bool,
    due_at: datetime | None,
) -> list[SaidTo]:  # fmt: skip
    """Keep words until their time, or for now; what becomes of them for each contact. However many
    contacts there are, it takes three statements."""
    ids = [each.contact for each in outgoing]
    about = {"channel": channel, "key": key, "ids": ids}
    known = {row.external_id: row for row in (await session.execute(_STANDING, about)).all()}
    states: dict[str, str] = {}
    rows: list[dict[str, Any]] = []
    strangers: list[dict[str, Any]] = []
    for each in outgoing:
        row = known.get(each.contact)
        place = each.conversation or (row.place if row is not None else "") or ""
        if row is not None and row.opted_out:
            states[each.contact] = "opted-out"
        elif row is not None and row.standing in ("blocked", "refused"):
            states[each.contact] = row.standing
        elif not place:
            states[each.contact] = "unknown"
        elif row is not None and row.sent:
            states[each.contact] = "duplicate"
        else:
            if row is None:
                strangers.append({"id": new_id(), "channel": channel, "external_id": each.contact})
            rows.append({
                "id": new_id(), "channel": channel, "key": key, "contact": each.contact,
                "conversation": place, "text": each.text, "spoken": spoken,
                "due_at": due_at or datetime.now(UTC),
            })  # fmt: skip
    if strangers:
        await session.execute(insert(Contact).on_conflict_do_nothing(), strangers)
    queued: set[str] = set()
    if rows:
        made = insert(OutgoingMessage).on_conflict_do_nothing().returning(OutgoingMessage.contact)
        queued = set((await session.scalars(made, rows)).all())
    new = "scheduled" if due_at is not None else "queued"
    for made_of in rows:
        contact = made_of["contact"]
        states[contact] = new if contact in queued else "duplicate"
    return [
        SaidTo.model_validate({
            "contact": each, "state": states[each],
            "due_at": due_at if states[each] == "scheduled" else None,
        })
        for each in ids
    ]  # fmt: skip


async def send_due(database: Database) -> int:
    """Make turns of what is due; how many there were. Whoever opted out or was erased meanwhile is
    left out.

    What is taken up has a minute; if its process ends before it is done, or it fails, another
    takes it up then. The message's id makes it one turn, however often.
    """
    count = 0
    while True:
        async with database.writing() as session:
            taken = {"seconds": AGAIN_SECONDS, "most": AT_ONCE}
            ids = (await session.scalars(_CLAIM, taken)).all()
        for id_ in ids:
            try:
                await _send(database, id_)
            except Exception:  # of one contact, which must not keep back the others
                log.exception("outgoing message failed", message=id_)
        count += len(ids)
        if len(ids) < AT_ONCE:
            return count


async def _send(database: Database, id_: str) -> None:
    """Make a turn of a message, unless its contact does not want it any more."""
    wanted = (
        select(OutgoingMessage, Channel.settings)
        .join(Channel, Channel.name == OutgoingMessage.channel)
        .join(
            Contact,
            and_(
                Contact.channel == OutgoingMessage.channel,
                Contact.external_id == OutgoingMessage.contact,
            ),
        )
        .where(
            OutgoingMessage.id == id_, Contact.opted_out.is_(False),
            Contact.standing.not_in(("blocked", "refused")),
        )
    )  # fmt: skip
    async with database.reading() as session:
        row = (await session.execute(wanted)).one_or_none()
    if row is not None:
        kept: OutgoingMessage = row.OutgoingMessage
        message = Inbound(
            id=f"say-{kept.key}-{kept.contact}", conversation=kept.conversation,
            contact=kept.contact, spoken_reply=kept.spoken,
            replies=[Reply(text=kept.text).model_dump(mode="json")],
        )  # fmt: skip
        await take_in_once(
            database, kept.channel, ChannelSettings.model_validate(row.settings), message, {},
            standing="late", cause="operator",
        )  # fmt: skip
    async with database.writing() as session:
        await session.execute(delete(OutgoingMessage).where(OutgoingMessage.id == id_))


async def scheduled(session: AsyncSession, channel: str) -> list[OutgoingMessage]:
    """What is scheduled on a channel, the earliest first."""
    wanted = select(OutgoingMessage).where(OutgoingMessage.channel == channel)
    rows = await session.scalars(wanted.order_by(OutgoingMessage.due_at).limit(1_000))
    return list(rows)


async def cancel(session: AsyncSession, channel: str, key: str) -> int:
    """Delete what is scheduled with a key; how many there were."""
    gone = delete(OutgoingMessage).where(
        OutgoingMessage.channel == channel, OutgoingMessage.key == key
    )
    return len((await session.execute(gone.returning(OutgoingMessage.id))).all())
