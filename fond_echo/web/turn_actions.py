"""What an operator does with a turn: try it again, decide about a delivery in doubt."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path
from sqlalchemy import func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.api import DecisionIn, FailIn, RetryIn, RewriteIn, TurnDetail
from fond_echo.records.beginning import begin
from fond_echo.records.claim import Failure
from fond_echo.records.journal import Journal
from fond_echo.stages.deliver import rewritten
from fond_echo.store.erasing import UNFINISHED
from fond_echo.store.events import emit
from fond_echo.store.queue import SEND_DELIVERY, WORK_TURN, enqueue
from fond_echo.store.records import (
    Assistant,
    Channel,
    Contact,
    Conversation,
    Delivery,
    Revision,
    Run,
    Turn,
)
from fond_echo.web.access import MayOperate
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import Conflict, NotFound
from fond_echo.web.paging import whole_id
from fond_echo.web.service import TheService
from fond_echo.web.turns import TurnId, get_turn

router = CheckedRouter(prefix="/api/turns", tags=["log"])


@router.post("/{turn_id}/fail")
async def fail_turn(
    turn_id: TurnId, bearer: MayOperate, service: TheService, given: FailIn | None = None
) -> TurnDetail:
    """End a turn that is not finished, whoever carries it: it is failed, nothing more is sent for
    it, and the turns after it are answered."""
    async with service.database.writing() as session:
        turn_id = await whole_id(session, Turn, turn_id)
        turn = await session.get(Turn, turn_id)
        if turn is None:
            raise NotFound(f"there is no turn {turn_id}")
        channel = await session.get_one(Channel, turn.channel)
        if channel.kind == "phone":
            raise Conflict("the turn is part of a call", remedy="end the call")
        if turn.state not in UNFINISHED:
            raise Conflict(
                f"the turn is {turn.state} already", remedy="only what goes on can be ended"
            )
    what = "an operator ended the turn" + (f": {given.reason}" if given and given.reason else "")
    failure = Failure("receive", "ended-by-operator", what, "retry it when it can be answered")
    await Journal(service.database, service.queue).give_up(turn_id, failure)
    return await get_turn(turn_id, bearer, service)


@router.post("/{turn_id}/retry")
async def retry_turn(
    turn_id: TurnId, bearer: MayOperate, service: TheService, given: RetryIn | None = None
) -> TurnDetail:
    """Retry a failed turn from the beginning, or answer the last turn of a conversation again:
    with the revision that is live now, or with another one. With a revision of its own, a turn that
    is not finished is taken from whoever carries it, too."""
    named = given.revision if given is not None else ""
    async with service.database.writing() as session:
        turn_id = await whole_id(session, Turn, turn_id)
        turn = await session.get(Turn, turn_id, with_for_update=True)
        if turn is None:
            raise NotFound(f"there is no turn {turn_id}")
        last = select(func.max(Turn.number)).where(Turn.conversation_id == turn.conversation_id)
        is_last = turn.number == (await session.execute(last)).scalar_one()
        unfinished = turn.state in UNFINISHED
        if not (
            turn.state == "failed"
            or (turn.state == "answered" and is_last)
            or (unfinished and named)
        ):
            raise Conflict(
                f"the turn is {turn.state}",
                remedy="failed turns are tried again, and the last of a conversation; one that is "
                "not finished is with another revision",
            )
        if turn.standing in ("operator", "late"):
            raise Conflict("these are no answer to anything", remedy="say it anew")
        if turn.erased_at is not None:
            raise Conflict("the turn was erased: there is nothing to try")
        if turn.state == "answered" and turn.run_id is not None:
            # It is answered as it was then: what it left behind is taken back first.
            run = await session.get_one(Run, turn.run_id)
            said_in = await session.get_one(
                Conversation, turn.conversation_id, with_for_update=True
            )
            said_in.state = run.state_before
        conversation = await session.get_one(
            Conversation, turn.conversation_id, with_for_update=True
        )
        if unfinished:
            if (await session.get_one(Channel, turn.channel)).kind == "phone":
                raise Conflict("the turn is part of a call", remedy="end the call")
            await session.execute(
                update(Delivery)
                .where(Delivery.turn_id == turn_id, Delivery.state == "planned")
                .values(state="dropped", settled_at=func.now())
            )
        turn.state, turn.run_id, turn.error, turn.finished_at = "received", None, None, None
        turn.epoch, turn.worker, turn.crashes = turn.epoch + 1, None, 0
        if named:
            await _begin_with(session, turn, conversation, named)
        await enqueue(service.queue, session, WORK_TURN, turn_id=turn_id)
        await emit(
            session,
            "turn.retried",
            turn_id,
            channel=conversation.channel,
            conversation=conversation.id,
        )
    return await get_turn(turn_id, bearer, service)


async def _begin_with(
    session: AsyncSession, turn: Turn, conversation: Conversation, named: str
) -> None:
    """Begin a turn's run with a revision of its assistant. Raises NotFound."""
    channel = await session.get_one(Channel, conversation.channel)
    record = await session.get_one(Assistant, channel.assistant)
    digest = {"live": record.live, "draft": record.draft}.get(named, named)
    revision = await session.get(Revision, digest) if digest else None
    if revision is None or revision.assistant != record.name:
        raise NotFound(
            f"{record.name} has no revision {named!r}",
            remedy='name "live", "draft" or the id of a revision that `assistant history` lists',
        )
    contact = await session.get_one(Contact, conversation.contact_id)
    await session.flush()
    await begin(session, turn, conversation, contact, revision.digest, exactly=True)


DeliveryId = Annotated[str, Path(max_length=60)]


@router.put("/{turn_id}/deliveries/{delivery_id}/text")
async def rewrite_delivery(
    turn_id: TurnId,
    delivery_id: DeliveryId,
    given: RewriteIn,
    bearer: MayOperate,
    service: TheService,
) -> TurnDetail:
    """Replace a text that went out, and its choices. A network that cannot do
    so is sent them anew."""
    vault = await service.vault()
    async with service.database.writing() as session:
        turn = await session.get(Turn, turn_id, with_for_update=True)
        row = await session.get(Delivery, delivery_id)
        if turn is None or row is None or row.turn_id != turn_id:
            raise NotFound(f"there is no turn {turn_id} with a delivery {delivery_id}")
        conversation = await session.get_one(
            Conversation, turn.conversation_id, with_for_update=True
        )
        channel = await session.get_one(Channel, conversation.channel)
        if channel.kind in ("http", "page", "phone"):
            raise Conflict(
                f"what was answered on the channel {channel.name} is handed over already",
                remedy="only what a network shows can be written anew",
            )
        if turn.finished_at is None:
            raise Conflict("the turn is still being worked on", remedy="wait for turn.answered")
        if row.kind not in ("text", "choices", "edit") or row.state != "sent":
            raise Conflict(
                f"the delivery is {row.kind}, {row.state}", remedy="only text that was sent"
            )
        can = service.builder.build(channel, vault).abilities
        places = select(func.max(Delivery.part)).where(Delivery.run_id == row.run_id)
        part = (await session.scalar(places) or 0) + 1
        planned = rewritten(given.text, given.choices, row.external_id, can, part)
        later = Delivery(
            turn_id=turn_id,
            run_id=row.run_id,
            kind=planned.kind,
            part=part,
            key=f"{row.run_id}-{part}",
            text=planned.text,
            extra=planned.extra,
        )
        session.add(later)
        # A number that is typed now chooses from what stands there now.
        values = [choice.value for choice in given.choices]
        conversation.state = {**conversation.state, "choices": values}
        await session.flush()
        await enqueue(service.queue, session, SEND_DELIVERY, turn_id=turn_id, delivery_id=later.id)
        await emit(
            session,
            "delivery.planned",
            turn_id,
            channel=conversation.channel,
            conversation=conversation.id,
            delivery=later.id,
            delivered_as=later.kind,
        )
    return await get_turn(turn_id, bearer, service)


@router.post("/{turn_id}/deliveries/{delivery_id}/decision")
async def decide_delivery(
    turn_id: TurnId,
    delivery_id: DeliveryId,
    given: DecisionIn,
    bearer: MayOperate,
    service: TheService,
) -> TurnDetail:
    """Settle a delivery that is in doubt, was refused or dropped."""
    async with service.database.writing() as session:
        row = await session.get(Delivery, delivery_id, with_for_update=True)
        if row is None or row.turn_id != turn_id:
            raise NotFound(f"the turn has no delivery {delivery_id}")
        turn = await session.get_one(Turn, turn_id)
        waits = row.state == "planned" and turn.finished_at is not None
        if row.state not in ("in-doubt", "refused", "dropped") and not waits:
            raise Conflict(f"the delivery is {row.state}: there is nothing to decide")
        if turn.erased_at is not None:
            raise Conflict("the turn was erased: there is nothing to send")
        changed = update(Delivery).where(Delivery.id == delivery_id)
        if given.decision == "retry":
            # The time in which it is tried begins anew.
            planned = {"state": "planned", "planned_at": func.now(), "settled_at": None}
            await session.execute(changed.values(planned))
        else:
            state = {"sent": "sent", "drop": "dropped"}[given.decision]
            await session.execute(changed.values(state=state, settled_at=func.now()))
        if given.decision == "retry" and not waits:
            await enqueue(
                service.queue, session, SEND_DELIVERY, turn_id=turn_id, delivery_id=delivery_id
            )
        conversation = await session.get_one(Conversation, turn.conversation_id)
        await emit(
            session,
            "delivery.decided",
            turn_id,
            channel=conversation.channel,
            conversation=conversation.id,
            decision=given.decision,
        )
    return await get_turn(turn_id, bearer, service)
