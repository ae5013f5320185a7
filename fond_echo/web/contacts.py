"""Contacts of a channel: who was refused, who is allowed or blocked, what is remembered,
erasing."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated

from fastapi import Path, Query, Response
from pydantic import JsonValue
from sqlalchemy import select, tuple_
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.api import (
    Page,
)
from fond_echo.contract.base import JsonObject
from fond_echo.contract.contacts import (
    ContactOut,
    StandingIn,
    WordsInRevision,
)
from fond_echo.records.errors import WordsInRevisions
from fond_echo.records.words_in_revisions import take_out, traces_of
from fond_echo.store import keys
from fond_echo.store.erasing import erase_contact
from fond_echo.store.events import emit
from fond_echo.store.records import Contact
from fond_echo.turns.memory import facts, with_facts
from fond_echo.web.access import MayOperate, MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.channels import ChannelName
from fond_echo.web.errors import NotAllowed, NotFound
from fond_echo.web.paging import Cursor, Limit, next_cursor, place
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/channels/{channel}/contacts", tags=["contacts"])

ContactId = Annotated[str, Path(max_length=60)]


def contact_out(record: Contact) -> ContactOut:
    return ContactOut(
        id=record.id,
        channel=record.channel,
        external_id=record.external_id,
        name=record.name,
        standing=record.standing,
        tester=record.tester,
        opted_out=record.opted_out,
        memory=facts(record.memory, datetime.now(UTC)),
        erased_at=record.erased_at,
        first_seen_at=record.first_seen_at,
    )


async def known_contact(session: AsyncSession, channel: str, contact_id: str) -> Contact:
    record = await session.get(Contact, contact_id)
    if record is None or record.channel != channel:
        raise NotFound(f"the channel {channel!r} has no contact {contact_id}")
    return record


@router.get("")
async def list_contacts(
    channel: ChannelName,
    _: MayRead,
    service: TheService,
    standing: Annotated[str, Query(max_length=20, description="such as refused")] = "",
    cursor: Cursor = "",
    limit: Limit = 50,
) -> Page[ContactOut]:
    """List the contacts of a channel, the latest first."""
    wanted = select(Contact).where(Contact.channel == channel)
    if standing:
        wanted = wanted.where(Contact.standing == standing)
    if (start := place(cursor)) is not None:
        wanted = wanted.where(tuple_(Contact.first_seen_at, Contact.id) < start)
    order = Contact.first_seen_at.desc(), Contact.id.desc()
    async with service.database.reading() as session:
        rows = (await session.execute(wanted.order_by(*order).limit(limit + 1))).scalars().all()
    items = [contact_out(row) for row in rows[:limit]]
    following = next_cursor(items[-1].first_seen_at, items[-1].id) if len(rows) > limit else ""
    return Page(items=items, next=following)


@router.put("/{contact_id}/standing")
async def set_standing(
    channel: ChannelName,
    contact_id: ContactId,
    given: StandingIn,
    _: MayOperate,
    service: TheService,
) -> ContactOut:
    """Allow, refuse or block a contact."""
    async with service.database.writing() as session:
        record = await known_contact(session, channel, contact_id)
        record.standing, record.told_at = given.standing, None
        await emit(session, f"contact.{given.standing}", contact_id, channel=channel)
        return contact_out(record)


@router.get("/{contact_id}/memory")
async def get_memory(
    channel: ChannelName, contact_id: ContactId, _: MayRead, service: TheService
) -> JsonObject:
    """Get what is remembered of a contact."""
    async with service.database.reading() as session:
        record = await known_contact(session, channel, contact_id)
        return facts(record.memory, datetime.now(UTC))


@router.put("/{contact_id}/memory")
async def set_memory(
    channel: ChannelName,
    contact_id: ContactId,
    given: dict[str, JsonValue],
    _: MayOperate,
    service: TheService,
) -> JsonObject:
    """Replace all that is remembered of a contact."""
    async with service.database.writing() as session:
        record = await known_contact(session, channel, contact_id)
        record.memory = with_facts({}, given, 0, datetime.now(UTC))
        return facts(record.memory, datetime.now(UTC))


@router.delete("/{contact_id}/memory", status_code=204)
async def delete_memory(
    channel: ChannelName, contact_id: ContactId, _: MayOperate, service: TheService
) -> Response:
    """Delete what is remembered of a contact."""
    async with service.database.writing() as session:
        (await known_contact(session, channel, contact_id)).memory = {}
    return Response(status_code=204)


@router.get("/{contact_id}/words-in-revisions")
async def list_words_in_revisions(
    channel: ChannelName, contact_id: ContactId, _: MayOperate, service: TheService
) -> list[WordsInRevision]:
    """List where a contact's words stand in revisions of assistants: in kept cases, examples and
    scenarios."""
    async with service.database.reading() as session:
        await known_contact(session, channel, contact_id)
    return (await traces_of(service.database, contact_id)).found


@router.delete("/{contact_id}", name="erase_contact")
async def erase(
    channel: ChannelName,
    contact_id: ContactId,
    bearer: MayOperate,
    service: TheService,
    confirm: Annotated[bool | None, Query()] = None,
) -> ContactOut:
    """Erase all that a contact said and was told: words, sound, memory, name. That it was
    erased stays on record. Where its words stand in revisions of assistants, nothing is erased
    until `confirm` says whether those are rewritten without them, or stay."""
    async with service.database.reading() as session:
        await known_contact(session, channel, contact_id)
    traces = await traces_of(service.database, contact_id)
    found = traces.found
    concerned = list(dict.fromkeys(each.revision for each in found))
    if found and confirm is None:
        first = found[0]
        raise WordsInRevisions(
            f"words of the contact stand in {len(concerned)} revisions, such as in {first.file} "
            f"of {first.assistant}: {first.text[:100]!r}; nothing was erased",
            remedy="see …/words-in-revisions; then confirm=true rewrites these revisions without "
            "them, and confirm=false leaves them",
        )
    if found and confirm and not keys.includes(bearer.scopes, "build"):
        raise NotAllowed("to rewrite revisions needs a key with the scope build")
    if confirm:
        # Before the words by which they are found are gone themselves.
        await take_out(service.database, traces.persons, concerned)
    await erase_contact(service.database, service.blobs, contact_id)
    async with service.database.reading() as session:
        return contact_out(await known_contact(session, channel, contact_id))
