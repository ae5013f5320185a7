"""A channel's contract: one text from which a program can be written."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Annotated, Any

from fastapi import Query
from sqlalchemy import select

from fond_echo.contract.asking import AskIn, AskOut, Contract, Requests
from fond_echo.contract.channel import ChannelSettings
from fond_echo.store.records import Channel, Conversation, Turn
from fond_echo.web.access import MayRead
from fond_echo.web.asking import answer_of
from fond_echo.web.bodies import MAX_BYTES, CheckedRouter
from fond_echo.web.channels import ChannelName
from fond_echo.web.errors import NotFound, NotUsable
from fond_echo.web.http_channel import AT_ONCE
from fond_echo.web.requests import list_example_requests
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/channels", tags=["channels"])

QUERY = """
Query: `deliver_as` is link (usual), base64, data-uri, bytes or none; `wait` the seconds after which
it is answered 202 though the turn goes on (60; at most 120); `contact` and `conversation` as in the
body. The header `Idempotency-Key` makes a request that is sent twice one question: both get the
same answer."""
RESPONSE = """
200 with the answer; 202 where it is not there yet: send the same request again with its
`Idempotency-Key`. This is what the assistant answers now; ids, link and waveform are made up:
"""
PROBLEMS = """
Problem details (RFC 9457): `type` ends with the code, `detail` says what, `remedy` what to do.

| status | code | what | what to do |
|---|---|---|---|"""
ERRORS = (
    (401, "not-signed-in", "there is no key, or it was revoked", "send a key that may operate"),
    (403, "not-allowed", "the key may not do this", "ask for a key with the scope operate"),
    (404, "not-found", "there is no such channel", "look at the address"),
    (409, "conflict", "the Idempotency-Key was used for another request, or the contact is blocked",
     "use a new key for every request"),
    (413, "too-large", f"the body is larger than {MAX_BYTES // 2**20} MiB", "send less"),
    (422, "request", "a field is not what it must be; detail says which", "read detail and remedy"),
    (422, "nothing-asked", "there is neither text nor sound", "give one"),
    (503, "too-busy", f"more than {AT_ONCE} questions are being answered",
     "wait as Retry-After says, and ask again with the same Idempotency-Key"),
)  # fmt: skip


@router.get("/{channel}/contract")
async def get_contract(
    channel: ChannelName, bearer: MayRead, service: TheService,
    last: Annotated[bool, Query(description="with the last exchange, words of a contact")] = False,
) -> Contract:  # fmt: skip
    """Get one text with everything that a program needs to know to ask an HTTP channel: request,
    response, every field, errors and limits."""
    async with service.database.reading() as session:
        record = await session.get(Channel, channel)
    if record is None:
        raise NotFound(f"there is no channel {channel!r}")
    if record.kind != "http":
        raise NotUsable(
            f"{channel} is a {record.kind} channel, and programs ask HTTP channels",
            remedy="add one: fond-echo channel add NAME --kind http --assistant ASSISTANT",
        )
    requests = await list_example_requests(channel, bearer, service)
    settings = ChannelSettings.model_validate(record.settings)
    exchange = await _last(service, channel) if last else None
    return Contract(text="\n".join(_lines(record, settings, requests, exchange)))


async def _last(service: Service, channel: str) -> AskOut | None:
    """What was asked and answered last."""
    wanted = (
        select(Turn.id)
        .join(Conversation, Conversation.id == Turn.conversation_id)
        .where(Conversation.channel == channel, Turn.state == "answered", Turn.erased_at.is_(None))
        .order_by(Turn.received_at.desc())
        .limit(1)
    )
    async with service.database.reading() as session:
        turn = (await session.execute(wanted)).scalar_one_or_none()
    return await answer_of(service, turn) if turn else None


def _lines(
    record: Channel, settings: ChannelSettings, requests: Requests, last: AskOut | None
) -> Iterator[str]:
    yield f"# Asking {record.assistant} over the channel {record.name}"
    yield "\nOne POST with words or sound; back come what was heard, the answer, and its sound."
    yield f"Address: `{requests.address}`. Every request carries a key that may operate."
    yield "\n## Request"
    for name, kind, code in (
        ("From a shell", "sh", requests.curl),
        ("With a recording (any container), and the answer as a voice note", "sh",
         requests.curl_with_sound),
        ("Python", "python", requests.python), ("JavaScript", "js", requests.javascript),
    ):  # fmt: skip
        yield f"\n{name}:\n\n```{kind}\n{code.rstrip()}\n```"
    yield "\nThe body is JSON with these fields, a form with the same fields, or sound itself:\n"
    yield from _table(AskIn.model_json_schema())
    yield QUERY
    yield "\n## Response"
    yield RESPONSE
    yield f"```json\n{json.dumps(requests.answer, indent=2, ensure_ascii=False)}\n```\n"
    yield from _table(AskOut.model_json_schema())
    yield "\n## Errors"
    yield PROBLEMS
    for status, code, what, remedy in ERRORS:
        yield f"| {status} | `{code}` | {what} | {remedy} |"
    yield "\n## Limits\n"
    yield from _limits(settings)
    if last is not None:
        yield "\n## The last exchange\n"
        shown = json.dumps(last.model_dump(mode="json"), indent=2, ensure_ascii=False)
        yield f"```json\n{shown}\n```"


def _limits(settings: ChannelSettings) -> Iterator[str]:
    quotas = settings.quotas
    yield f"- a body of {MAX_BYTES // 2**20} MiB; {AT_ONCE} questions at once; 10 files a question"
    if settings.max_audio_minutes:
        yield f"- sound of {settings.max_audio_minutes} minutes"
    for most, what in (
        (quotas.turns, "turns"), (quotas.seconds_heard, "seconds heard"),
        (quotas.characters_spoken, "characters spoken"),
    ):  # fmt: skip
        if most:
            yield f"- {most:,} {what} a contact and day (UTC); beyond, the answer says so"
    yield f"- turns are deleted {_kept(settings)}"
    if settings.access.mode != "open":
        yield "- only contacts on the channel's list are answered, or who says its word"


def _kept(settings: ChannelSettings) -> str:
    days = settings.retention.text_days
    return f"after {days} days" if days else "never by themselves"


def _table(schema: dict[str, Any]) -> Iterator[str]:
    """The fields of a shape, as a table."""
    yield "| field | type | |\n|---|---|---|"
    for name, field in schema["properties"].items():
        limit = f", at most {field['maxLength']:,} characters" if "maxLength" in field else ""
        limit += f", at most {field['maxItems']}" if "maxItems" in field else ""
        yield f"| `{name}` | {_type(field)} | {field.get('description', '')}{limit} |"


def _type(field: dict[str, Any]) -> str:
    if "anyOf" in field:
        return " or ".join(_type(each) for each in field["anyOf"])
    if "$ref" in field:
        return "object"
    if field.get("type") == "array":
        return f"list of {_type(field.get('items', {}))}"
    return str(field.get("type", "anything"))
