"""The statements by which turns are taken and left."""

from __future__ import annotations

from sqlalchemy import Integer, Text, bindparam, case, func, select, text, update
from sqlalchemy.dialects.postgresql import JSONB

from fond_echo.store.erasing import UNFINISHED
from fond_echo.store.liveness import IS_GONE
from fond_echo.store.queue import deferring
from fond_echo.store.records import Assistant, Channel, Contact, Conversation, Inbound, Run, Turn

_OF = update(Turn).where(Turn.id == bindparam("turn")).values(epoch=Turn.epoch + 1)
_CRASHED = text(
    "crashes + CASE WHEN worker IS NOT NULL AND worker IS DISTINCT FROM :me "
    f"AND {IS_GONE.format('worker')} THEN 1 ELSE 0 END"
).bindparams(bindparam("me", type_=Integer))
TAKE = (
    _OF.where(Turn.state.in_(UNFINISHED))
    .values(state="working", crashes=_CRASHED, worker=bindparam("me", type_=Integer))
    .returning(Turn)
    .execution_options(synchronize_session=False)
)
TAKE_FINISHED = (
    _OF.where(Turn.state.in_(("answered", "failed")))
    .returning(Turn)
    .execution_options(synchronize_session=False)
)
ANSWERS = case(
    (Contact.tester, func.coalesce(Assistant.draft, Assistant.live)), else_=Assistant.live
)
"""The revision that answers a contact: testers have the draft."""

AROUND = (
    select(Conversation, Contact, Channel, Inbound, ANSWERS, Run)
    .join(Contact, Contact.id == Conversation.contact_id)
    .join(Channel, Channel.name == Conversation.channel)
    .join(Assistant, Assistant.name == Channel.assistant)
    .join(Inbound, Inbound.turn_id == bindparam("turn"))
    .outerjoin(Run, Run.id == bindparam("run"))
    .where(Conversation.id == bindparam("conversation"))
    .with_for_update(of=Conversation)
)
LEAVE = text(
    """
    UPDATE conversations
       SET answered = greatest(answered, :number), state = coalesce(:state, state),
           answering = coalesce(:answering, answering), changed_at = now()
     WHERE id = :id
    """
).bindparams(bindparam("state", type_=JSONB(none_as_null=True)), bindparam("answering", type_=Text))
WAKE = text(
    f"""
    SELECT {deferring("id")} FROM turns
     WHERE conversation_id = :conversation AND number = :number AND state = 'waiting'
    """
)
"""After that, in a statement of its own: a message that came meanwhile waited for the first."""
