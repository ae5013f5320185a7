"""The assistant speaks first: words to contacts of a channel who have not just asked."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

from sqlalchemy import select

from fond_echo.contract.base import new_id
from fond_echo.contract.channel import ChannelSettings, Inbound
from fond_echo.contract.contacts import ContactOut, OptedOutIn
from fond_echo.contract.reply import Reply
from fond_echo.contract.saying import Addressed, SaidTo, SayIn, SayOut
from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.templates import compile_template
from fond_echo.store.events import emit
from fond_echo.store.inbound import take_in_once
from fond_echo.store.records import Channel, Contact, Conversation
from fond_echo.web.access import MayOperate
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.channels import ChannelName
from fond_echo.web.contacts import ContactId, contact_out, known_contact
from fond_echo.web.errors import NotFound, NotUsable
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/channels", tags=["contacts"])

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
            f"nobody can be written to first over a {record.kind} channel", remedy=remedy
        )
    texts = worded(given)
    settings = ChannelSettings.model_validate(record.settings)
    key = given.key or new_id()
    found = [
        await _said(service, record.name, settings, each, text, given.spoken_reply, key)
        for each, text in zip(given.contacts, texts, strict=True)
    ]
    return SayOut(key=key, results=found)


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


async def _said(
    service: Service, channel: str, settings: ChannelSettings, to: Addressed, text: str,
    spoken: bool, key: str,
) -> SaidTo:  # fmt: skip
    """Enqueue words to one contact, and say what became of it."""
    async with service.database.reading() as session:
        wanted = select(Contact).where(
            Contact.channel == channel, Contact.external_id == to.contact
        )
        contact = (await session.execute(wanted)).scalar_one_or_none()
        place = to.conversation
        if contact is not None and not place:
            latest = (
                select(Conversation.external_id)
                .where(Conversation.contact_id == contact.id)
                .order_by(Conversation.changed_at.desc())
                .limit(1)
            )
            place = (await session.execute(latest)).scalar_one_or_none() or ""
    if contact is not None and (contact.opted_out or contact.standing in ("blocked", "refused")):
        why = "opted-out" if contact.opted_out else contact.standing
        return SaidTo(contact=to.contact, state=why)
    if not place:
        return SaidTo(contact=to.contact, state="unknown")
    message = Inbound(
        id=f"say-{key}-{to.contact}", conversation=place, contact=to.contact,
        spoken_reply=spoken, replies=[Reply(text=text).model_dump(mode="json")],
    )  # fmt: skip
    found = await take_in_once(
        service.database, channel, settings, message, {}, standing="late", cause="operator"
    )
    if not found.turn_id:
        return SaidTo(contact=to.contact, state="said-before")
    return SaidTo(contact=to.contact, state="sent-on", turn=found.turn_id)


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
