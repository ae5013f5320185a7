"""Sending a delivery, and what is done when it may or may not have gone out.

planned → sending → sent, refused, in-doubt or dropped. "sending" is written before the request,
so that after a crash it is known which deliveries are in doubt. What is certain not to have
happened is tried again, for as long as the channel says; what is in doubt is handled as the channel
says: `retry` (with the same key), `hold` for the operator, or `drop`.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from typing import Any

from fond_echo.connectors.answers import BUSY
from fond_echo.connectors.errors import (
    ConnectorError,
    ForbiddenAddress,
    NoAnswer,
    Refused,
    SecretMisused,
)
from fond_echo.core.errors import FondEchoError
from fond_echo.driver.errors import InDoubt, RetryLater
from fond_echo.driver.retry import pause
from fond_echo.records.claim import Claim, Failure
from fond_echo.records.journal import Journal
from fond_echo.store.records import Delivery
from fond_echo.turns.delivery import PlannedDelivery
from fond_echo.turns.needs import SendingNeeds
from fond_echo.turns.ports import Outgoing, Sent
from fond_echo.turns.turn import DeliveredPart

PAUSES = (0.4, 1.2)
"""Before the second and third try within one job; after that the turn is left for a while."""


NETWORKS = ("chat", "adapter")
"""Kinds of channels by which something is sent outside."""


Settled = tuple[DeliveredPart, Failure | None]


async def send(
    journal: Journal, claim: Claim, row: Delivery, needs: SendingNeeds, *, begun: bool = False
) -> Settled:
    """Send one delivery.

    Args:
        begun: that it is being sent is written already, by us.

    Raises:
        RetryLater: it certainly did not go out, and may yet.
    """
    if row.state == "sending" and not begun:
        doubt = InDoubt("the worker stopped while this was being sent")
        settled = await _doubtful(journal, claim, row, doubt)
        if settled is not None:
            return settled
    if row.state not in ("planned", "sending"):
        return DeliveredPart(kind=row.kind, state=row.state, external_id=row.external_id), None
    outgoing = await _outgoing(claim, row, needs)
    attempt = 0
    while True:
        if not begun:
            await journal.outbox.move(claim, row, "sending")
        begun = False
        try:
            sent = await needs.channel.send(outgoing)
        except FondEchoError as error:
            settled = await _failed(journal, claim, row, error, attempt)
            if settled is not None:
                return settled
        else:
            return await _sent(journal, claim, row, sent), None
        attempt += 1


async def played(
    journal: Journal, claim: Claim, planned: Sequence[PlannedDelivery], needs: SendingNeeds
) -> tuple[list[DeliveredPart], Failure | None]:
    """Settle what was played in a call as it was made: there is nothing more to send."""
    inbound = claim.turn.inbound
    failure = None
    try:
        await needs.channel.send(Outgoing("voice", inbound.conversation, inbound.contact, ""))
    except FondEchoError as error:
        failure = Failure.of("deliver", error)
    state = "refused" if failure else "sent"
    await journal.outbox.settled(claim, planned, state, failure.as_json() if failure else None)
    return [DeliveredPart(kind=each.kind, state=state) for each in planned], failure


async def _failed(
    journal: Journal, claim: Claim, row: Delivery, error: FondEchoError, attempt: int
) -> Settled | None:
    """Settle a delivery that failed; None where it is to be tried again at once."""
    busy = isinstance(error, Refused) and error.status in BUSY
    not_reached = isinstance(error, ConnectorError) and not error.answered
    doubtful = isinstance(error, NoAnswer) or (isinstance(error, Refused) and error.status >= 500)
    if isinstance(error, (ForbiddenAddress, SecretMisused)):
        return await _refused(journal, claim, row, error)
    if not (busy or not_reached or doubtful):
        return await _refused(journal, claim, row, error)
    if doubtful and not busy:
        settled = await _doubtful(journal, claim, row, error)
        if settled is not None:
            return settled
    if attempt < len(PAUSES):
        await asyncio.sleep(PAUSES[attempt])
        return None
    seconds = pause(row.planned_at, patience=claim.settings.deliver_for_hours * 3_600)
    if seconds is None:
        return await _refused(journal, claim, row, error)
    failure = Failure.of("deliver", error)
    await journal.outbox.move(
        claim, row, "planned", error=failure.as_json(), exchanges=_exchanges(error)
    )
    raise RetryLater(seconds)


async def _refused(journal: Journal, claim: Claim, row: Delivery, error: FondEchoError) -> Settled:
    failure = Failure.of("deliver", error)
    await journal.outbox.move(
        claim, row, "refused", error=failure.as_json(), exchanges=_exchanges(error)
    )
    return DeliveredPart(kind=row.kind, state="refused"), failure


async def _outgoing(claim: Claim, row: Delivery, needs: SendingNeeds) -> Outgoing:
    turn = claim.turn
    encoded = turn.encoded.clip if turn.encoded else None
    clip = encoded if encoded is not None and encoded.id == row.clip_id else None
    data = await needs.clips.load(row.clip_id) if row.clip_id else b""
    url, name = str(row.extra.get("url", "")), str(row.extra.get("name", ""))
    return Outgoing(
        kind=row.kind,
        conversation=turn.inbound.conversation,
        contact=turn.inbound.contact,
        key=row.key,
        text=row.text,
        id=str(row.extra.get("id", "")),
        data=data,
        media_type="audio/ogg" if clip else str(row.extra.get("media_type", "")),
        name=name or ("answer.ogg" if clip else ""),
        url=url,
        seconds=clip.seconds or 0.0 if clip else 0.0,
        waveform=tuple(clip.waveform) if clip else (),
        choices=tuple((label, value) for label, value in row.extra.get("choices", [])),
        facts=row.extra,
    )


async def _sent(journal: Journal, claim: Claim, row: Delivery, sent: Sent) -> DeliveredPart:
    external_id = sent.external_id or str(row.extra.get("id", ""))
    await journal.outbox.move(
        claim, row, "sent", external_id=external_id, exchanges=sent.exchanges, error=None
    )
    return DeliveredPart(kind=row.kind, state="sent", external_id=external_id)


async def _doubtful(
    journal: Journal, claim: Claim, row: Delivery, error: FondEchoError
) -> Settled | None:
    """Settle a delivery in doubt as the channel says; None where it is to be sent again."""
    decision = claim.settings.when_in_doubt
    # Writing the same words in the same place twice is writing them once, and what is handed over
    # here goes to no network.
    if decision == "retry" or row.kind == "edit" or claim.channel.kind not in NETWORKS:
        return None
    failure = Failure.of("deliver", error)
    state = "dropped" if decision == "drop" else "in-doubt"
    await journal.outbox.move(
        claim, row, state, error=failure.as_json(), exchanges=_exchanges(error)
    )
    return DeliveredPart(kind=row.kind, state=state), failure


def _exchanges(error: FondEchoError) -> list[Any]:
    return [vars(each) for each in getattr(error, "exchanges", [])]
