"""A conversation that a person answers: their words, and giving it back."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path
from sqlalchemy import func

from fond_echo.contract.api import AnsweringIn, TurnDetail, WordsIn
from fond_echo.contract.base import new_id
from fond_echo.contract.channel import Inbound as Message
from fond_echo.store.events import emit
from fond_echo.store.queue import WORK_TURN, enqueue
from fond_echo.store.records import Contact, Conversation, Inbound, Turn
from fond_echo.web.access import MayOperate
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.problems import NotThere
from fond_echo.web.service import TheService
from fond_echo.web.turns import get_turn

router = CheckedRouter(prefix="/api/conversations", tags=["log"])

ConversationId = Annotated[str, Path(max_length=60)]


@router.post("/{conversation_id}/messages", status_code=201)
async def say(
    conversation_id: ConversationId, given: WordsIn, bearer: MayOperate, service: TheService
) -> TurnDetail:
    """Say something to a contact in an operator's own words, in turn with everything else."""
    turn_id = new_id()
    async with service.database.writing() as session:
        conversation = await session.get(Conversation, conversation_id, with_for_update=True)
        if conversation is None:
            raise NotThere(f"there is no conversation {conversation_id}")
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
    """Let the assistant answer, or a person."""
    async with service.database.writing() as session:
        conversation = await session.get(Conversation, conversation_id, with_for_update=True)
        if conversation is None:
            raise NotThere(f"there is no conversation {conversation_id}")
        conversation.answering = given.by
        await emit(
            session,
            f"conversation.{given.by}",
            conversation_id,
            channel=conversation.channel,
            conversation=conversation_id,
        )
    return given
