"""The HTTP channel: one POST with sound or text, and back come what was heard, the answer and its
sound."""

from __future__ import annotations

import base64
import json
from typing import Annotated, Any, Literal
from urllib.parse import quote

from fastapi import Header, Query, Request, Response
from fastapi.responses import JSONResponse
from pydantic import ValidationError
from starlette.datastructures import UploadFile
from starlette.types import Message

from fond_echo.contract.asking import AskIn, AskOut
from fond_echo.contract.base import JsonObject
from fond_echo.contract.channel import MAX_FILES, ChannelSettings
from fond_echo.contract.renditions import LINK_HOURS
from fond_echo.core.errors import FondEchoError
from fond_echo.signed_links import link_to
from fond_echo.web.access import MayOperate
from fond_echo.web.asking import NewFile, ask, channel_of, given_files, given_sound, one_more
from fond_echo.web.bodies import MAX_BYTES, CheckedRouter, body_of
from fond_echo.web.channels import ChannelName
from fond_echo.web.errors import NotJson, NotUsable
from fond_echo.web.problems import told_of
from fond_echo.web.service import Service, TheService

router = CheckedRouter(tags=["http channel"])

MAX_BODY = MAX_BYTES
FORMS = ("multipart/form-data", "application/x-www-form-urlencoded")
AT_ONCE = 200
SoundDelivery = Literal["link", "base64", "data-uri", "bytes", "none"]


def _schema() -> JsonObject:
    """A question as JSON Schema, with the shape of its files in its place."""
    found = AskIn.model_json_schema()
    found["properties"]["files"]["items"] = found.pop("$defs")["FileIn"]
    return found


@router.post(
    "/ask/{channel}",
    response_model=AskOut,
    openapi_extra={
        "requestBody": {
            "content": {
                "application/json": {"schema": _schema()},
                "multipart/form-data": {"schema": _schema()},
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
    deliver_as: Annotated[
        SoundDelivery, Query(description="how the answer's sound comes")
    ] = "link",
    spoken_reply: Annotated[bool | None, Query(description="answer with sound, or without")] = None,
    wait: Annotated[float, Query(ge=0, le=120, description="seconds at the most")] = 60.0,
    idempotency_key: Annotated[str | None, Header(max_length=200)] = None,
) -> Response:
    """Ask a question as text (JSON), as sound (the body), or as a form with a file."""
    record = await channel_of(service, "http", name=channel)
    body = await body_of(request, MAX_BODY)
    requested, data, files = await _requested(request, body)
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
            files=[*given_files(requested.files), *files],
            spoken_reply=spoken_reply if requested.spoken_reply is None else requested.spoken_reply,
            message_id=idempotency_key or "",
            wait=wait,
        )
    return await _response(service, reported, deliver_as)


async def _requested(request: Request, body: bytes) -> tuple[AskIn, bytes, list[NewFile]]:
    """What is asked, its sound and the files of a form: as JSON, as a form, or the body is
    sound."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind in FORMS:
        return await _of_form(request, body)
    if kind not in ("", "application/json", "text/json") or not body:
        return AskIn(), body, []
    if not kind and body[:1] not in (b"{", b" ", b"\n"):
        return AskIn(), body, []
    try:
        found = AskIn.model_validate_json(body)
    except ValidationError as error:
        raise _unusable(error) from error
    return found, given_sound(found.sound), []


async def _of_form(request: Request, body: bytes) -> tuple[AskIn, bytes, list[NewFile]]:
    """A form's fields, its sound, and its parts called `files`. Raises NotUsable."""

    async def once() -> Message:
        return {"type": "http.request", "body": body, "more_body": False}

    fields: dict[str, str] = {}
    sounds: list[bytes] = []
    files: list[NewFile] = []
    async with Request(request.scope, once).form(max_files=MAX_FILES + 2, max_fields=20) as form:
        for name, value in form.multi_items():
            if isinstance(value, UploadFile) and name == "files":
                kind, called = value.content_type or "", value.filename or ""
                files.append(NewFile(await value.read(), kind[:200], called[:200]))
            elif isinstance(value, UploadFile):
                sounds.append(await value.read())
            else:
                fields[name] = value
    if len(sounds) > 1:
        raise NotUsable(
            "a question has one sound",
            remedy="send them one after the other; pictures and files are parts called files",
        )
    if len(files) > MAX_FILES:
        raise NotUsable(f"a question has at most {MAX_FILES} files")
    try:
        found = AskIn.model_validate(fields)
    except ValidationError as error:
        raise _unusable(error) from error
    return found, sounds[0] if sounds else given_sound(found.sound), files


def _unusable(error: ValidationError) -> FondEchoError:
    first: Any = error.errors()[0]
    if first["type"] == "json_invalid":
        return NotJson(f"the body is not JSON: {first['msg']}")
    what, remedy = told_of(first, first["loc"], AskIn)
    return NotUsable(what, remedy=remedy)


async def _response(service: Service, reported: AskOut, how: SoundDelivery) -> Response:
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
            reported.sound.data_uri = f"data:audio/ogg;base64,{text}" if how == "data-uri" else ""
    if how == "none":
        reported.sound = None
    return JSONResponse(json.loads(reported.model_dump_json()), status_code=status)
