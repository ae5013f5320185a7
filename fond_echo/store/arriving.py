"""Taking in what a network sent: message by message, and what cannot be read beside them."""

from __future__ import annotations

from collections.abc import Iterable

import structlog
from sqlalchemy import delete, select, update
from sqlalchemy.exc import DataError

from fond_echo.contract.base import new_id
from fond_echo.contract.channel import Arrived, ChannelSettings, Unreadable
from fond_echo.store.database import Database
from fond_echo.store.events import emit
from fond_echo.store.inbound import take_in_once
from fond_echo.store.records import Channel, UnreadableMessage

log = structlog.get_logger()

KEPT = 100
"""So many unreadable messages of a channel are kept, the latest."""

MAX_REASON = 500


async def take_in_all(
    database: Database, channel: str, settings: ChannelSettings, arrived: Iterable[Arrived]
) -> int:
    """Take in what a network sent; gives how many turns it makes. What cannot be read is kept apart
    with its reason, and keeps nothing else from being taken in."""
    new = 0
    for each in arrived:
        if isinstance(each, Unreadable):
            await _keep(database, channel, each)
            continue
        message, post = each
        payload = post if isinstance(post, dict) else {"value": post}
        try:
            taken = await take_in_once(database, channel, settings, message, payload)
        except DataError as error:
            # The database does not take it, now or later: it would stand in the way for good.
            await _keep(database, channel, Unreadable(post, f"it cannot be stored: {error.orig}"))
            continue
        log.info(
            "message arrived", channel=channel, message=message.id, turn=taken.turn_id or taken.why
        )
        new += bool(taken.turn_id)
    return new


async def _keep(database: Database, channel: str, found: Unreadable) -> None:
    log.warning("a message cannot be read", channel=channel, reason=found.reason[:MAX_REASON])
    payload = found.post if isinstance(found.post, dict) else {"value": found.post}
    async with database.writing() as session:
        counted = update(Channel).where(Channel.name == channel)
        await session.execute(counted.values(unreadable=Channel.unreadable + 1))
        session.add(
            UnreadableMessage(
                id=new_id(), channel=channel, payload=payload, reason=found.reason[:MAX_REASON]
            )
        )
        await session.flush()
        latest = (
            select(UnreadableMessage.id)
            .where(UnreadableMessage.channel == channel)
            .order_by(UnreadableMessage.received_at.desc(), UnreadableMessage.id.desc())
            .limit(KEPT)
        )
        await session.execute(
            delete(UnreadableMessage).where(
                UnreadableMessage.channel == channel, UnreadableMessage.id.not_in(latest)
            )
        )
        await emit(session, "message.unreadable", channel, reason=found.reason[:MAX_REASON])
