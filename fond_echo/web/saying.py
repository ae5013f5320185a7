"""The assistant speaks first: words to contacts of a channel who have not just asked."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from datetime import UTC, datetime, time, timedelta
from typing import Annotated
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from fastapi import Path, Response

from fond_echo.contract.base import new_id
from fond_echo.contract.contacts import ContactOut, OptedOutIn
from fond_echo.contract.saying import Addressed, SayIn, SayOut, ScheduledOut
from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.templates import compile_template
from fond_echo.store.events import emit
from fond_echo.store.records import Assistant, Channel, Revision
from fond_echo.store.saying import Outgoing, cancel, queue_messages, scheduled
from fond_echo.turns.turn import assistant_of
from fond_echo.web.access import MayOperate, MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.channels import ChannelName
from fond_echo.web.contacts import ContactId, contact_out, known_contact
from fond_echo.web.errors import NotFound, NotUsable
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/channels", tags=["contacts"])

PAST = timedelta(minutes=1)
REACHED = ("chat", "adapter")
"""Kinds of channels whose network takes a message at any time."""


@router.post("/{channel}/messages")
async def send_messages(
    channel: ChannelName, given: SayIn, _: MayOperate, service: TheService
) -> SayOut:
    """Send words to contacts of a channel, who need not have asked. What is wrong with the list is
    said before anything goes out; whoever has opted out, or is blocked, is not written to; the same
    key reaches nobody twice. Replies join the conversation."""
    async with service.database.reading() as session:
        record = await session.get(Channel, channel)
    if record is None:
        raise NotFound(f"there is no channel {channel!r}")
    if record.kind not in REACHED:
        remedy = "place a call: fond-echo call place" if record.kind == "phone" else (
            "use a channel of a chat network"
        )  # fmt: skip
        raise NotUsable(
            f"nobody can be written to first over {record.name}: it is of kind {record.kind}",
            remedy=remedy,
        )
    texts = worded(given)
    key = given.idempotency_key or new_id()
    at = due(given, await _zone(service, record), datetime.now(UTC))
    outgoing = [
        Outgoing(each.contact, each.conversation, text)
        for each, text in zip(given.contacts, texts, strict=True)
    ]
    async with service.database.writing() as session:
        found = await queue_messages(session, channel, key, outgoing, given.spoken_reply, at)
    return SayOut(idempotency_key=key, results=found)


async def _zone(service: Service, channel: Channel) -> str:
    """The time zone of the assistant's hours; "" where it has none."""
    async with service.database.reading() as session:
        assistant = await session.get_one(Assistant, channel.assistant)
        revision = await session.get_one(Revision, assistant.live)
    hours = (await asyncio.to_thread(assistant_of, revision.digest, revision.files)).hours
    return hours.zone if hours is not None else ""


def worded(given: SayIn) -> list[str]:
    """The words for each contact, filled in. Raises NotUsable for a list with faults: all of them
    are told at once."""
    try:
        template = compile_template(given.text)
    except TemplateFailed as error:
        raise NotUsable(f"the words cannot be read: {error}") from error
    faults, texts = list(_doubles(given.contacts)), []
    for number, each in enumerate(given.contacts, 1):
        try:
            facts = {"contact": each.contact, "now": datetime.now(UTC), "values": each.values}
            text = str(template.render(facts)).strip()
        except TemplateFailed as error:
            text = ""
            faults.append(f"{number}: {each.contact}: {error}")
        if not text and not faults:
            faults.append(f"{number}: {each.contact}: there are no words for it")
        texts.append(text)
    if faults:
        more = f" (and {len(faults) - 10} more)" if len(faults) > 10 else ""
        raise NotUsable(
            "; ".join(faults[:10]) + more, remedy="correct the list: nothing was sent to anybody"
        )
    return texts


def _doubles(contacts: Sequence[Addressed]) -> list[str]:
    first: dict[str, int] = {}
    found = []
    for number, each in enumerate(contacts, 1):
        if each.contact in first:
            found.append(f"{number}: {each.contact} stands in line {first[each.contact]} too")
        first.setdefault(each.contact, number)
    return found


def due(given: SayIn, zone: str, now: datetime) -> datetime | None:
    """When words go out: None at once. Raises NotUsable for a time that was, or without a zone."""
    name = given.zone or zone
    if name:
        try:
            place = ZoneInfo(name)
        except (ZoneInfoNotFoundError, ValueError) as error:
            raise NotUsable(
                f"there is no time zone {name!r}", remedy="such as Europe/London"
            ) from error
    elif given.quiet or (given.at is not None and given.at.tzinfo is None):
        raise NotUsable(
            "it is not known in which time zone that is meant",
            remedy="write at as 2027-01-31T08:00+01:00, name a zone, or give the assistant hours",
        )
    else:
        place = ZoneInfo("UTC")
    at = given.at or now
    at = at.replace(tzinfo=place) if at.tzinfo is None else at.astimezone(place)
    if at < now - PAST:
        raise NotUsable(f"{at:%Y-%m-%d %H:%M %Z} was before now", remedy="leave at out: at once")
    at = _after_quiet(max(at, now.astimezone(place)), given.quiet)
    return at.astimezone(UTC) if at > now else None


def _after_quiet(at: datetime, quiet: str) -> datetime:
    """The time, or the end of the quiet hours in which it falls."""
    if not quiet:
        return at
    begin, end = (time.fromisoformat(each) for each in quiet.split("-"))
    clock = at.time().replace(tzinfo=None)
    within = begin <= clock < end if begin <= end else clock >= begin or clock < end
    if not within:
        return at
    until = at.replace(hour=end.hour, minute=end.minute, second=0, microsecond=0)
    return until if until > at else until + timedelta(days=1)


@router.get("/{channel}/messages")
async def list_scheduled_messages(
    channel: ChannelName, _: MayRead, service: TheService
) -> list[ScheduledOut]:
    """List words that are scheduled, the earliest first."""
    async with service.database.reading() as session:
        return [
            ScheduledOut(contact=each.contact, key=each.key, text=each.text, spoken=each.spoken,
                       due_at=each.due_at)
            for each in await scheduled(session, channel)
        ]  # fmt: skip


@router.delete("/{channel}/messages/{key}", status_code=204)
async def delete_messages(
    channel: ChannelName, key: Annotated[str, Path(max_length=100)], _: MayOperate,
    service: TheService,
) -> Response:  # fmt: skip
    """Delete scheduled words by their idempotency key: nobody is sent them any more."""
    async with service.database.writing() as session:
        if not await cancel(session, channel, key):
            raise NotFound(
                f"nothing is scheduled with the key {key!r}: it was sent, or was never scheduled"
            )
    return Response(status_code=204)


@router.put("/{channel}/contacts/{contact_id}/opted-out")
async def set_opted_out(
    channel: ChannelName, contact_id: ContactId, given: OptedOutIn, _: MayOperate,
    service: TheService,
) -> ContactOut:  # fmt: skip
    """Choose whether a contact may be written to first; what it asks is answered either way."""
    async with service.database.writing() as session:
        record = await known_contact(session, channel, contact_id)
        record.opted_out = given.opted_out
        kind = "opted-out" if given.opted_out else "opted-in"
        await emit(session, f"contact.{kind}", contact_id, channel=channel)
        return contact_out(record)
