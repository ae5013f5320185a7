"""Messages that are part of another, and those in rooms of many that are not for the assistant."""

from __future__ import annotations

from sqlalchemy import bindparam, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.channel import ChannelSettings
from fond_echo.contract.channel import Inbound as Message
from fond_echo.core.dialogue.addressing import addressed_to

MAX_LENGTH = 400
"""Characters: what is longer is no part of a burst."""

MAX_TOGETHER = 4_000

_LAST = text(
    """
    SELECT turns.id, inbound.id AS inbound_id, inbound.external_id, inbound.message
      FROM conversations
      JOIN turns ON turns.conversation_id = conversations.id AND turns.number = conversations.turns
      JOIN inbound ON inbound.turn_id = turns.id
     WHERE conversations.channel = :channel AND conversations.external_id = :place
       AND conversations.contact_id = :contact AND turns.state = 'received'
       AND turns.standing = '' AND turns.arrived_as = 'text'
       AND turns.received_at > now() - make_interval(secs => :seconds)
       FOR UPDATE OF turns
    """
)
_JOINED = text(
    """
    WITH told AS (UPDATE inbound SET message = :message WHERE id = :inbound_id)
    UPDATE turns SET text = :text WHERE id = :turn_id
    """
).bindparams(bindparam("message", type_=JSONB))


def is_short(message: Message) -> bool:
    """Whether a message may be part of a burst: a short text, and nothing else."""
    plain = message.arrived_as == "text" and not message.command and message.quoted is None
    plain = plain and not message.files
    return plain and 0 < len(message.text) <= MAX_LENGTH


async def added_to_burst(
    session: AsyncSession, channel: str, contact_id: str, message: Message, seconds: float
) -> str:
    """Put a text to the one before it, where that came within so many seconds and nobody works on
    it yet. The turn that it belongs to now, or already did; "" where it is one of its own."""
    place = {"channel": channel, "place": message.conversation, "contact": contact_id}
    row = (await session.execute(_LAST, {**place, "seconds": seconds})).one_or_none()
    if row is None:
        return ""
    last = Message.model_validate(row.message)
    if message.id in (row.external_id, *last.merged):
        return str(row.id)
    together = f"{last.text}\n{message.text}"
    if not is_short(last.model_copy(update={"text": "x"})) or len(together) > MAX_TOGETHER:
        return ""
    merged = last.model_copy(update={"text": together, "merged": [*last.merged, message.id]})
    values = {"message": merged.model_dump(), "inbound_id": row.inbound_id}
    await session.execute(_JOINED, {**values, "text": together, "turn_id": row.id})
    return str(row.id)


def for_us(message: Message, settings: ChannelSettings) -> Message | None:
    """A message as it is meant for the assistant, without its name; None where, in a room of many,
    it is not."""
    groups = settings.groups
    if not message.group or groups.answer == "everything":
        return message
    if groups.answer == "nothing" or message.joined:
        return None
    quotes_us = message.quoted is not None and message.quoted.ours
    said = addressed_to(message.text, groups.names) if message.text else None
    if said is not None:
        return message.model_copy(update={"text": said or message.text})
    return message if quotes_us or message.command or message.choice is not None else None
