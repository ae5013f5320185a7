"""Announcements that a turn asks for: a call into a conference room that ends when all is said."""

from __future__ import annotations

from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.call import CallIn, Opening
from fond_echo.contract.reply import Announce
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.phone import PhoneConnector, read_phone
from fond_echo.records.errors import CannotAnnounce
from fond_echo.store.calls import ask_for_call
from fond_echo.store.events import emit
from fond_echo.store.records import Channel
from fond_echo.turns.turn import TurnSoFar


async def announce(session: AsyncSession, turn: TurnSoFar, requested: Announce) -> None:
    """Ask for the call, with the end of the turn; where it may not be placed, an event says why."""
    to = requested.to or turn.inbound.conference
    try:
        phone, number = _over(await session.get(Channel, requested.over), requested.over, to)
    except FondEchoError as error:
        await emit(
            session, "announcement.refused", turn.id, channel=turn.channel, over=requested.over,
            to=to, why=error.what,
        )  # fmt: skip
        return
    caller = phone.numbers[0] if phone.numbers else requested.over
    order = CallIn(to=to, opening=Opening(text=requested.text), asked_by=turn.id)
    await ask_for_call(
        session, requested.over, number, caller, order.model_dump(mode="json"), requested.after
    )


def _over(channel: Channel | None, name: str, to: str) -> tuple[PhoneConnector, str]:
    """The channel and the number that is called. Raises a FondEchoError."""
    if not to:
        raise CannotAnnounce("the network does not tell which conference the contact is in")
    if channel is None or channel.kind != "phone":
        raise CannotAnnounce(f"there is no phone channel {name!r}")
    phone = read_phone(channel.connector, f"{channel.name}.yaml")
    return phone, phone.may_be_called(to)
