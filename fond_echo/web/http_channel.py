"""The HTTP channel: one POST with sound or text, and back come what was heard, the answer and its
sound."""

from __future__ import annotations

import base64
import json
from typing import Annotated, Literal
from urllib.parse import quote

from fastapi import Header, Query, Request, Response
from fastapi.responses import JSONResponse
from pydantic import ValidationError

from fond_echo.contract.api import AskIn, AskOut
from fond_echo.contract.channel import ChannelSettings
from fond_echo.contract.renditions import LINK_HOURS
from fond_echo.web.access import MayOperate
from fond_echo.web.asking import ask, channel_of, given_sound, one_more
from fond_echo.web.bodies import CheckedRouter, body_of
from fond_echo.web.channels import ChannelName
from fond_echo.web.links import link_to
from fond_echo.web.service import Service, TheService
from fond_echo.web.webhooks import NotJson

router = CheckedRouter(tags=["http channel"])

MAX_BODY = 60 * 2**20
AT_ONCE = 200
Sounding = Literal["link", "base64", "data", "bytes", "none"]


@router.post(
    "/ask/{channel}",
    response_model=AskOut,
    openapi_extra={
        "requestBody": {
            "content": {
                "application/json": {"schema": AskIn.model_json_schema()},
                "audio/*": {"schema": {"type": "string", "format": "binary"}},
            }
        }
    },
)
async def ask_channel(
    channel: ChannelName,
    request: Request,
    bearer: MayOperate,
    service: TheService,
    contact: Annotated[str, Query(max_length=200, description="who asks")] = "",
    conversation: Annotated[str, Query(max_length=200, description="which talk it is")] = "",
    sound: Annotated[Sounding, Query(description="how the answer's sound comes")] = "link",
    aloud: Annotated[bool | None, Query(description="answer with sound, or without")] = None,
    wait: Annotated[float, Query(ge=0, le=120, description="seconds at the most")] = 60.0,
    idempotency_key: Annotated[str | None, Header(max_length=200)] = None,
) -> Response:
    """Ask with text (JSON) or sound (the body as it is, in any container)."""
    record = await channel_of(service, "http", name=channel)
    body = await body_of(request, MAX_BODY)
    requested = _requested(request, body)
    data = body if requested is None else given_sound(requested.sound)
    requested = requested or AskIn()
    who = requested.contact or contact or bearer.key_id
    async with one_more(service, channel, AT_ONCE):
        reported = await ask(
            service,
            channel,
            ChannelSettings.model_validate(record.settings),
            contact=who,
            conversation=requested.conversation or conversation or who,
            # Who does not say who asks is the program with that key.
            name=requested.name or ("" if requested.contact or contact else bearer.name),
            text=requested.text,
            choice=requested.choice,
            sound=data,
            aloud=aloud if requested.aloud is None else requested.aloud,
            message_id=idempotency_key or "",
            wait=wait,
        )
    return await _response(service, reported, sound)


def _requested(request: Request, body: bytes) -> AskIn | None:
    """The JSON of a request; None where its body is sound."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind not in ("", "application/json", "text/json") or not body:
        return None if body else AskIn()
    if not kind and body[:1] not in (b"{", b" ", b"\n"):
        return None
    try:
        return AskIn.model_validate_json(body)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(step) for step in first["loc"])
        raise NotJson(f"{where or 'the body'}: {first['msg']}") from error


async def _response(service: Service, reported: AskOut, how: Sounding) -> Response:
    for each in reported.attachments:
        if each.clip:
            each.link, _ = link_to(service.settings, each.clip, LINK_HOURS)
    status = 200 if reported.state in ("answered", "failed") else 202
    if reported.sound is not None and how != "none":
        if how == "link":
            reported.sound.link, _ = link_to(service.settings, reported.sound.clip, LINK_HOURS)
        else:
            data = await service.clips.load(reported.sound.clip)
            if how == "bytes":
                return Response(
                    data,
                    media_type="audio/ogg",
                    headers={"X-Turn": reported.turn, "X-Answer": quote(reported.answer[:1_500])},
                )
            text = base64.b64encode(data).decode()
            reported.sound.base64 = text if how == "base64" else ""
            reported.sound.data = f"data:audio/ogg;base64,{text}" if how == "data" else ""
    if how == "none":
        reported.sound = None
    return JSONResponse(json.loads(reported.model_dump_json()), status_code=status)
