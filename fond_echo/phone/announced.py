"""Telling whoever asked for an announcement what became of it."""

from __future__ import annotations

from datetime import datetime

import structlog
from sqlalchemy import select

from fond_echo.contract.call import CallIn
from fond_echo.contract.channel import ChannelSettings, Inbound
from fond_echo.contract.reply import Reply
from fond_echo.store.calls import Call
from fond_echo.store.database import Database
from fond_echo.store.inbound import take_in_once
from fond_echo.store.records import Channel, Contact, Conversation, Revision, Run, Turn
from fond_echo.store.records import Inbound as Arrived
from fond_echo.turns.turn import assistant_of

log = structlog.get_logger()

REACHED = ("chat", "adapter", "page")
"""Kinds of channels on which something can be said that nobody waits for."""


async def tell_who_asked(database: Database, record: str) -> None:
    """A call is over: where it was asked for in a conversation, say there when it was said, or that
    it could not be; once. The request is removed where the network can."""
    async with database.reading() as session:
        call = await session.get(Call, record)
        order = CallIn.model_validate(call.order) if call is not None and call.order else None
        if call is None or order is None or not order.asked_by:
            return
        around = (
            select(Conversation, Contact, Channel, Revision, Arrived.external_id)
            .join(Turn, Turn.conversation_id == Conversation.id)
            .join(Contact, Contact.id == Conversation.contact_id)
            .join(Channel, Channel.name == Conversation.channel)
            .join(Run, Run.id == Turn.run_id)
            .join(Revision, Revision.digest == Run.revision)
            .join(Arrived, Arrived.turn_id == Turn.id)
            .where(Turn.id == order.asked_by, Turn.erased_at.is_(None))
        )
        row = (await session.execute(around)).one_or_none()
    if row is None or row.Channel.kind not in REACHED:
        return  # it was erased meanwhile, or nobody is there any more
    conversation, contact, channel, revision, request = row
    assistant = assistant_of(revision.digest, revision.files)
    done = call.answered_at is not None and call.cause == "hung-up"
    zone = assistant.hours.hours().zone if assistant.hours is not None else None
    at: datetime = (call.answered_at or call.requested_at).astimezone(zone)
    words = assistant.says.text("announced", to=call.number, time=f"{at:%H:%M}") if done else (
        assistant.says.text("not-announced", to=call.number)
    )  # fmt: skip
    message = Inbound(
        id=f"announced-{call.id}", conversation=conversation.external_id,
        contact=contact.external_id, spoken_reply=False, removes=request if done else "",
        replies=[Reply(text=words).model_dump(mode="json")],
    )  # fmt: skip
    settings = ChannelSettings.model_validate(channel.settings)
    found = await take_in_once(
        database, channel.name, settings, message, {}, standing="late", cause="operator"
    )
    log.info("whoever asked was told", call=call.id, turn=found.turn_id or found.why)
