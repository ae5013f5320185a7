"""Exported conversations, loaded to be continued."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path
from sqlalchemy import select

from fond_echo.contract.api import ConversationOut, LoadIn
from fond_echo.contract.base import Name, new_id
from fond_echo.contract.logic import Exchange
from fond_echo.contract.reply import Reply
from fond_echo.store.events import emit
from fond_echo.store.records import (
    Assistant,
    Channel,
    Contact,
    Conversation,
    Delivery,
    Run,
    Turn,
)
from fond_echo.turns.closing import MAX_CHARACTERS, RECENT
from fond_echo.turns.state import ConversationState
from fond_echo.web.access import MayOperate
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import Conflict, NotFound
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/channels", tags=["log"])

LOADABLE = ("http", "page")
"""Kinds of channels: those of networks have people in them who said none of it."""


@router.post("/{name}/conversations", status_code=201)
async def load_conversation(
    name: Annotated[Name, Path()], given: LoadIn, _: MayOperate, service: TheService
) -> ConversationOut:
    """Load an exported conversation as one of a contact of a channel that programs or guests use.
    The assistant knows its last turns from then on; nothing is sent."""
    async with service.database.writing() as session:
        channel = await session.get(Channel, name)
        if channel is None:
            raise NotFound(f"there is no channel {name}")
        if channel.kind not in LOADABLE:
            raise Conflict(f"{name} is a {channel.kind} channel",
                           remedy="load it into a channel of the kind http")  # fmt: skip
        known = select(Contact.id).where(
            Contact.channel == name, Contact.external_id == given.contact
        )
        if (await session.execute(known)).first() is not None:
            raise Conflict(f"{given.contact} is a contact of {name} already",
                           remedy="give another contact")  # fmt: skip
        live = (await session.get_one(Assistant, channel.assistant)).live
        if live is None:
            raise Conflict(f"{channel.assistant} has nothing published", remedy="publish it")
        contact = Contact(
            id=new_id(), channel=name, external_id=given.contact, name=given.contact, memory={},
            standing="new",
        )  # fmt: skip
        session.add(contact)
        await session.flush()
        recent = [
            Exchange(said=each.said[:MAX_CHARACTERS], answered=_answered(each)[:MAX_CHARACTERS])
            for each in given.turns[-RECENT:]
        ]
        count = len(given.turns)
        conversation = Conversation(
            id=new_id(), channel=name, contact_id=contact.id, external_id=given.contact,
            turns=count, answered=count,
            state=ConversationState(recent=recent, last=_last(given)).stored(),
        )  # fmt: skip
        session.add(conversation)
        await session.flush()
        for number, each in enumerate(given.turns, 1):
            turn = Turn(
                id=new_id(), channel=name, conversation_id=conversation.id, number=number,
                arrived_as=each.arrived_as, text=each.said, route=each.route, state="answered",
                standing="loaded", received_at=each.at, finished_at=each.at, run_id=new_id(),
            )  # fmt: skip
            session.add(turn)
            await session.flush()
            session.add(
                Run(id=turn.run_id, turn_id=turn.id, revision=live, clock=each.at, seed=0,
                    state_before={}, memory_before={})
            )  # fmt: skip
            await session.flush()
            for part, answer in enumerate(each.answers):
                session.add(
                    Delivery(id=new_id(), turn_id=turn.id, run_id=turn.run_id, kind=answer.kind,
                             part=part, key=f"{turn.id}-{part}", state="loaded", text=answer.text)
                )  # fmt: skip
        await emit(session, "conversation.loaded", conversation.id, channel=name, turns=count)
        await session.refresh(conversation)
        return ConversationOut(
            id=conversation.id, channel=name, contact=contact.id, contact_name=contact.name,
            turns=count, answering=conversation.answering, changed_at=conversation.changed_at,
            last_text=given.turns[-1].said,
        )  # fmt: skip


def _last(given: LoadIn) -> Reply | None:
    """The last answer, so that it can be said again."""
    said = [each.text for each in given.turns[-1].answers if each.text] if given.turns else []
    return Reply(text="\n\n".join(said)[:20_000]) if said else None


def _answered(turn: object) -> str:
    return " ".join(each.text for each in turn.answers if each.text)  # type: ignore[attr-defined]
