"""The public page: a guest types or records, and hears the answer. No account, limits per guest."""

from __future__ import annotations

import hmac
import secrets
from datetime import UTC, datetime
from hashlib import sha256
from typing import Annotated

from fastapi import Path, Request, Response
from fastapi.responses import JSONResponse
from pydantic import ValidationError
from sqlalchemy import select, text

from fond_echo.answers.sentences import greeting_to
from fond_echo.contract.asking import AskOut, GuestPage, GuestSays
from fond_echo.contract.channel import ChannelSettings
from fond_echo.store.erasing import erase_contact
from fond_echo.store.records import (
    Assistant,
    Channel,
    ClipRecord,
    Contact,
    Conversation,
    Delivery,
    Revision,
    Turn,
)
from fond_echo.turns.turn import assistant_of
from fond_echo.web.access import same_origin
from fond_echo.web.asking import answer_of, ask, channel_of, given_files, one_more
from fond_echo.web.bodies import CheckedRouter, body_of
from fond_echo.web.console import page
from fond_echo.web.errors import NotAllowed, NotFound, NotJson, TooMany
from fond_echo.web.service import Service, TheService

router = CheckedRouter(tags=["page"])

Slug = Annotated[str, Path(max_length=40)]
COOKIE = "fond_echo_guest"
MAX_BODY = 6 * 2**20
MAX_FILE = MAX_BODY // 4 * 3 - 20_000
"""Bytes of a file that is sent as base64 beside a few words."""
WAIT_SECONDS = 60.0
SHOWN = 30

_COME = text(
    """
    INSERT INTO guest_counts AS known (channel, mark, hour, count)
    VALUES (:channel, :mark, date_trunc('hour', now()), 1)
    ON CONFLICT (channel, mark, hour) DO UPDATE SET count = known.count + 1
    RETURNING count
    """
)


@router.get("/at/{slug}", include_in_schema=False)
async def guest_page(slug: Slug, service: TheService) -> Response:
    """The page itself."""
    await channel_of(service, "page", slug=slug)
    return page("guest.html")


def _mark(service: Service, guest: str, slug: str) -> str:
    key = service.settings.encryption_keys()[0].encode()
    return hmac.digest(key, f"guest.{slug}.{guest}".encode(), sha256).hex()[:32]


def _guest(service: Service, request: Request, slug: str) -> str | None:
    """The guest whose cookie this is; None for a new one, or a cookie that was tampered with."""
    guest, _, mark = request.cookies.get(COOKIE, "").partition(".")
    if guest and hmac.compare_digest(mark.encode(), _mark(service, guest, slug).encode()):
        return guest
    return None


async def _welcome(service: Service, request: Request, channel: Channel, most: int) -> str:
    """A new guest. Raises TooMany for too many from one address within an hour of the clock,
    whichever process they came to."""
    address = request.client.host if request.client else ""
    who = {"channel": channel.name, "mark": _mark(service, address, channel.slug)}
    async with service.database.writing() as session:
        count = (await session.execute(_COME, who)).scalar_one()
    if count > most:
        raise TooMany("too many new guests from one place", remedy="come back in an hour")
    return secrets.token_urlsafe(12)


@router.get("/at/{slug}/about")
async def get_page(slug: Slug, request: Request, service: TheService) -> GuestPage:
    """Get the page's greeting and what was said before."""
    channel = await channel_of(service, "page", slug=slug)
    settings = ChannelSettings.model_validate(channel.settings)
    guest = _guest(service, request, slug)
    said = await _said(service, channel, guest) if guest else []
    async with service.database.reading() as session:
        assistant = await session.get_one(Assistant, channel.assistant)
        revision = await session.get_one(Revision, assistant.live)
    reported = assistant_of(revision.digest, revision.files)
    takes = reported.accepts_files
    examples = [each.plain[0] for each in reported.routes if each.plain][:4]
    return GuestPage(
        assistant=reported.assistant,
        greeting=greeting_to(reported, datetime.now(UTC)),
        examples=examples,
        file_types=list(takes.types) if takes else [],
        file_bytes=min(int(takes.max_megabytes * 1_000_000), MAX_FILE) if takes else 0,
        seconds_a_note=settings.guests.seconds_a_note,
        said=said,
    )


@router.post("/at/{slug}/say")
async def send_guest_message(slug: Slug, request: Request, service: TheService) -> AskOut:
    """Send a guest's message: JSON with text or a choice, or sound as the body."""
    if not same_origin(request):
        raise NotAllowed("speak from the page itself")
    channel = await channel_of(service, "page", slug=slug)
    settings = ChannelSettings.model_validate(channel.settings)
    body = await body_of(request, MAX_BODY)
    says = GuestSays()
    if request.headers.get("content-type", "").startswith("application/json"):
        try:
            says, body = GuestSays.model_validate_json(body), b""
        except ValidationError as error:
            raise NotJson(error.errors()[0]["msg"]) from error
    async with one_more(service, channel.name, settings.guests.max_concurrent):
        guest = _guest(service, request, slug)
        fresh = guest is None
        if guest is None:
            guest = await _welcome(service, request, channel, settings.guests.guests_an_hour)
        elif await _turns(service, channel, guest) >= settings.guests.turns_a_guest:
            raise TooMany("that is all for one guest", remedy="thank you for your visit")
        reported = await ask(
            service,
            channel.name,
            settings,
            contact=guest,
            conversation=guest,
            name="Guest",
            text=says.text,
            choice=says.choice,
            sound=body,
            files=given_files(says.files),
            spoken_reply=says.spoken_reply,
            wait=WAIT_SECONDS,
        )
    _linked(reported, slug)
    response = JSONResponse(reported.model_dump(mode="json"))
    if fresh:
        response.set_cookie(
            COOKIE,
            f"{guest}.{_mark(service, guest, slug)}",
            max_age=30 * 24 * 3_600,
            httponly=True,
            samesite="strict",
            secure=service.settings.address.startswith("https:"),
            path=f"/at/{slug}",
        )
    return response  # type: ignore[return-value]  # the same shape, with a cookie


@router.delete("/at/{slug}/conversation", status_code=204)
async def delete_guest_conversation(slug: Slug, request: Request, service: TheService) -> Response:
    """Erase a guest's conversation on the page."""
    if not same_origin(request):
        raise NotAllowed("clear it from the page itself")
    channel = await channel_of(service, "page", slug=slug)
    if guest := _guest(service, request, slug):
        wanted = select(Contact.id).where(
            Contact.channel == channel.name, Contact.external_id == guest
        )
        async with service.database.reading() as session:
            contact = (await session.execute(wanted)).scalar_one_or_none()
        if contact is not None:
            await erase_contact(service.database, service.blobs, contact)
    response = Response(status_code=204)
    response.delete_cookie(COOKIE, path=f"/at/{slug}")
    return response


def _linked(reported: AskOut, slug: str) -> None:
    """Its sound and files as links of the page."""
    if reported.sound is not None:
        reported.sound.link = f"/at/{slug}/files/{reported.sound.clip}"
    for each in reported.attachments:
        if each.clip:
            each.link = f"/at/{slug}/files/{each.clip}"


@router.get("/at/{slug}/files/{clip}", include_in_schema=False)
async def file(slug: Slug, clip: str, request: Request, service: TheService) -> Response:
    """An answer's sound, or a file that went along, for the guest who got it."""
    channel = await channel_of(service, "page", slug=slug)
    guest = _guest(service, request, slug)
    mine = (
        select(ClipRecord.media_type)
        .join(Delivery, Delivery.clip_id == ClipRecord.id)
        .join(Turn, Turn.id == Delivery.turn_id)
        .join(Conversation, Conversation.id == Turn.conversation_id)
        .where(
            Delivery.clip_id == clip,
            Conversation.channel == channel.name,
            Conversation.external_id == (guest or ""),
        )
    )
    async with service.database.reading() as session:
        media_type = (await session.execute(mine)).scalars().first() if guest else None
    if media_type is None:
        raise NotFound("there is no such file here")
    data = await service.clips.load(clip)
    headers = {"Cache-Control": "private, max-age=3600", "X-Content-Type-Options": "nosniff"}
    if not media_type.startswith(("audio/", "image/")):
        headers["Content-Disposition"] = "attachment"
    return Response(data, media_type=media_type.partition(";")[0], headers=headers)


async def _turns(service: Service, channel: Channel, guest: str) -> int:
    wanted = select(Conversation.turns).where(
        Conversation.channel == channel.name, Conversation.external_id == guest
    )
    async with service.database.reading() as session:
        return (await session.execute(wanted)).scalar_one_or_none() or 0


async def _said(service: Service, channel: Channel, guest: str) -> list[AskOut]:
    wanted = (
        select(Turn.id)
        .join(Conversation, Conversation.id == Turn.conversation_id)
        .join(Contact, Contact.id == Conversation.contact_id)
        .where(Conversation.channel == channel.name, Contact.external_id == guest)
        .order_by(Turn.number.desc())
        .limit(SHOWN)
    )
    async with service.database.reading() as session:
        ids = (await session.execute(wanted)).scalars().all()
    reported = [await answer_of(service, turn_id) for turn_id in reversed(ids)]
    for each in reported:
        _linked(each, channel.slug or "")
    return reported
