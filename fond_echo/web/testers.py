"""Testers of a channel: contacts whom the assistant's draft answers, while all others have what is
live."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert

from fond_echo.contract.base import new_id
from fond_echo.contract.contacts import ContactOut, TesterIn
from fond_echo.store.events import emit
from fond_echo.store.records import Channel, Contact
from fond_echo.web.access import MayBuild, MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.channels import ChannelName
from fond_echo.web.contacts import ContactId, contact_out, known_contact
from fond_echo.web.errors import NotFound
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/channels/{channel}/testers", tags=["contacts"])


@router.get("")
async def list_testers(channel: ChannelName, _: MayRead, service: TheService) -> list[ContactOut]:
    """List the contacts of a channel whom the draft answers."""
    wanted = select(Contact).where(Contact.channel == channel, Contact.tester)
    async with service.database.reading() as session:
        if await session.get(Channel, channel) is None:
            raise NotFound(f"there is no channel {channel!r}")
        rows = (await session.scalars(wanted.order_by(Contact.external_id))).all()
        return [contact_out(each) for each in rows]


@router.post("")
async def add_tester(
    channel: ChannelName, given: TesterIn, _: MayBuild, service: TheService
) -> ContactOut:
    """Answer a contact by the draft from now on: one who wrote or called before, or is yet to. A
    tester is let in, and uses up no quota."""
    async with service.database.writing() as session:
        if await session.get(Channel, channel) is None:
            raise NotFound(f"there is no channel {channel!r}")
        known = select(Contact).where(
            Contact.channel == channel, Contact.external_id == given.contact
        )
        if (record := await session.scalar(known)) is None:
            new = insert(Contact).values(
                id=new_id(), channel=channel, external_id=given.contact, name=given.name,
                memory={}, standing="allowed",
            )  # fmt: skip
            await session.execute(new.on_conflict_do_nothing())
            record = (await session.scalars(known)).one()
        record.tester, record.standing = True, "allowed"
        await emit(session, "contact.tester", record.id, channel=channel, tester=True)
        return contact_out(record)


@router.delete("/{contact_id}")
async def remove_tester(
    channel: ChannelName, contact_id: ContactId, _: MayBuild, service: TheService
) -> ContactOut:
    """Answer a tester by what is live again."""
    async with service.database.writing() as session:
        record = await known_contact(session, channel, contact_id)
        if not record.tester:
            raise NotFound(f"{record.shown_name} is no tester of {channel}")
        record.tester = False
        await emit(session, "contact.tester", record.id, channel=channel, tester=False)
        return contact_out(record)
