"""Conversations, as the log shows them, and those that a person answers: their words, and giving it
back."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Query
from sqlalchemy import Select, func, select, tuple_

from fond_echo.contract.api import AnsweringIn, ConversationOut, Page, TurnDetail, WordsIn
from fond_echo.contract.base import new_id
from fond_echo.contract.channel import Inbound as Message
from fond_echo.store.events import emit
from fond_echo.store.queue import WORK_TURN, enqueue
from fond_echo.store.records import Contact, Conversation, Inbound, Turn
from fond_echo.web.access import MayOperate, MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import NotFound
from fond_echo.web.paging import Cursor, Limit, next_cursor, place, whole_id
from fond_echo.web.service import TheService
from fond_echo.web.turns import get_turn

router = CheckedRouter(prefix="/api/conversations", tags=["log"])

ConversationId = Annotated[str, Path(max_length=60)]
Filter = Annotated[str, Query(max_length=60)]


def _conversations() -> Select[Conversation, Contact, str]:
    last = (
        select(Turn.text)
        .where(Turn.conversation_id == Conversation.id, Turn.number == Conversation.turns)
        .correlate(Conversation)
        .scalar_subquery()
    )
    return select(Conversation, Contact, last).join(Contact, Contact.id == Conversation.contact_id)


def _out(conversation: Conversation, contact: Contact, text: str | None) -> ConversationOut:
    return ConversationOut(
        id=conversation.id,
        channel=conversation.channel,
        contact=contact.external_id,
        contact_name=contact.shown_name,
        turns=conversation.turns,
        answering=conversation.answering,
        changed_at=conversation.changed_at,
        last_text=text or "",
    )


@router.get("")
async def list_conversations(
    _: MayRead, service: TheService, channel: Filter = "", cursor: Cursor = "", limit: Limit = 50
) -> Page[ConversationOut]:
    """List conversations, the one with the latest turn first."""
    wanted = _conversations()
    if channel:
        wanted = wanted.where(Conversation.channel == channel)
    if (start := place(cursor)) is not None:
        wanted = wanted.where(tuple_(Conversation.changed_at, Conversation.id) < start)
    order = Conversation.changed_at.desc(), Conversation.id.desc()
    async with service.database.reading() as session:
        rows = (await session.execute(wanted.order_by(*order).limit(limit + 1))).all()
    items = [_out(*row) for row in rows[:limit]]
    following = next_cursor(items[-1].changed_at, items[-1].id) if len(rows) > limit else ""
    return Page(items=items, next=following)


@router.get("/{conversation_id}")
async def get_conversation(
    conversation_id: ConversationId, _: MayRead, service: TheService
) -> ConversationOut:
    """Get a conversation by its id, or by the end of the id that lists show."""
    async with service.database.reading() as session:
        whole = await whole_id(session, Conversation, conversation_id)
        row = (await session.execute(_conversations().where(Conversation.id == whole))).first()
    if row is None:
        raise NotFound(f"there is no conversation {conversation_id}")
    return _out(*row)


@router.post("/{conversation_id}/messages", status_code=201)
async def send_message(
    conversation_id: ConversationId, given: WordsIn, bearer: MayOperate, service: TheService
) -> TurnDetail:
    """Send a contact an operator's own message."""
    turn_id = new_id()
    async with service.database.writing() as session:
        conversation = await session.get(Conversation, conversation_id, with_for_update=True)
        if conversation is None:
            raise NotFound(f"there is no conversation {conversation_id}")
        contact = await session.get_one(Contact, conversation.contact_id)
        conversation.turns += 1
        conversation.changed_at = func.now()
        session.add(
            Turn(
                id=turn_id,
                channel=conversation.channel,
                conversation_id=conversation_id,
                number=conversation.turns,
                cause="operator",
                text=given.text,
                standing="operator",
            )
        )
        await session.flush()
        message = Message(
            id=f"operator-{turn_id}",
            conversation=conversation.external_id,
            contact=contact.external_id,
            text=given.text,
        )
        session.add(
            Inbound(
                channel=conversation.channel,
                external_id=message.id,
                payload={},
                message=message.model_dump(),
                turn_id=turn_id,
            )
        )
        await session.flush()
        await enqueue(service.queue, session, WORK_TURN, turn_id=turn_id)
        await emit(
            session,
            "turn.received",
            turn_id,
            channel=conversation.channel,
            conversation=conversation_id,
        )
    return await get_turn(turn_id, bearer, service)


@router.put("/{conversation_id}/answering")
async def set_answering(
    conversation_id: ConversationId, given: AnsweringIn, _: MayOperate, service: TheService
) -> AnsweringIn:
    """Choose whether the assistant or an operator answers."""
    async with service.database.writing() as session:
        conversation = await session.get(Conversation, conversation_id, with_for_update=True)
        if conversation is None:
            raise NotFound(f"there is no conversation {conversation_id}")
        conversation.answering = given.by
        await emit(
            session,
            f"conversation.{given.by}",
            conversation_id,
            channel=conversation.channel,
            conversation=conversation_id,
        )
    return given
