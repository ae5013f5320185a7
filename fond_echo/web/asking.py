"""Asking and waiting for the answer in one exchange: what the HTTP line and the public page do."""

from __future__ import annotations

import asyncio
import base64
import binascii
import contextlib
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from sqlalchemy import select

from fond_echo.contract.api import AskOut, SpokenAnswer
from fond_echo.contract.base import new_id
from fond_echo.contract.clip import ClipRef
from fond_echo.contract.line import Inbound, LineSettings, SoundHandle
from fond_echo.contract.reply import Choice
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.sniff import sniff
from fond_echo.core.errors import FondEchoError
from fond_echo.store.clips import clip_ref
from fond_echo.store.inbound import take_in_once
from fond_echo.store.records import ClipRecord, Conversation, Delivery, Line, Stage, Turn
from fond_echo.store.records import Inbound as Arrived
from fond_echo.web.problems import Conflict, NotThere
from fond_echo.web.service import Service

ENDED = frozenset(("answered", "failed"))
LOOK_SECONDS = 0.5


class TooBusy(FondEchoError):
    """More is being asked than is worked on at once."""

    code = "too-busy"


class NothingAsked(FondEchoError):
    """A request with neither text nor sound."""

    code = "nothing-asked"


@asynccontextmanager
async def one_more(service: Service, line: str, most: int) -> AsyncIterator[None]:
    """Count a request that waits for an answer. Raises TooBusy over the limit."""
    if service.asking.get(line, 0) >= most:
        raise TooBusy(f"{most} questions are being answered", remedy="ask again in a moment")
    service.asking[line] = service.asking.get(line, 0) + 1
    try:
        yield
    finally:
        service.asking[line] -= 1


async def ask(
    service: Service,
    line: str,
    settings: LineSettings,
    *,
    contact: str,
    conversation: str,
    name: str = "",
    text: str = "",
    choice: str | None = None,
    sound: bytes = b"",
    aloud: bool | None = None,
    message_id: str = "",
    wait: float,
) -> AskOut:
    """Take a question in and wait for its answer, at most `wait` seconds.

    Raises:
        NothingAsked, or Conflict where the contact is blocked.
    """
    if not text and not sound and choice is None:
        raise NothingAsked("there is neither text nor sound in the request")
    handle = None
    if sound:
        found = sniff(sound)
        kept = await service.clips.keep(
            sound, found.media_type if found else "application/octet-stream", "asked"
        )
        handle = SoundHandle(handle=kept.id, kind="note")
    message = Inbound(
        id=message_id or new_id(),
        conversation=conversation,
        contact=contact,
        name=name,
        text=text,
        choice=choice,
        sound=handle,
        aloud=aloud,
    )
    begun = time.monotonic()
    taken = await take_in_once(service.database, service.queue, line, settings, message, {})
    turn_id = taken.turn_id
    if taken.why == "known":
        turn_id = await _turn_of(service, line, message.id)
    elif not turn_id:
        raise Conflict("this contact is not answered here", remedy="see the line's contacts")
    return await answer_of(service, turn_id, wait - (time.monotonic() - begun))


async def _turn_of(service: Service, line: str, message_id: str) -> str:
    async with service.database.reading() as session:
        wanted = select(Arrived.turn_id).where(
            Arrived.line == line, Arrived.outside_id == message_id
        )
        return (await session.execute(wanted)).scalar_one()


async def answer_of(service: Service, turn_id: str, wait: float = 0.0) -> AskOut:
    """What came of a turn, once it has ended or the wait is over."""
    deadline = time.monotonic() + wait
    while True:
        woken = service.feed.woken
        async with service.database.reading() as session:
            turn = await session.get(Turn, turn_id)
            if turn is None:
                raise NotThere(f"there is no turn {turn_id}")
            left = deadline - time.monotonic()
            if turn.state in ENDED or left <= 0:
                return await _told(service, turn)
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(min(LOOK_SECONDS, left)):
                await woken.wait()


async def _told(service: Service, turn: Turn) -> AskOut:
    async with service.database.reading() as session:
        wanted = select(Stage.name, Stage.output).where(
            Stage.run_id == turn.run_id, Stage.outcome == "done"
        )
        outputs = dict((await session.execute(wanted)).tuples().all())
        sent = (
            select(Delivery, ClipRecord)
            .outerjoin(ClipRecord, ClipRecord.id == Delivery.clip_id)
            .where(Delivery.run_id == turn.run_id, Delivery.part >= 0)
            .order_by(Delivery.part)
        )
        deliveries = (await session.execute(sent)).all()
        conversation = await session.get_one(Conversation, turn.conversation_id)
    parts = outputs.get("answer", {}).get("parts", [])
    voice: ClipRef | None = next((clip_ref(clip) for _, clip in deliveries if clip), None)
    written = outputs.get("transcribe")
    return AskOut(
        turn=turn.id,
        conversation=conversation.outside_id,
        state=turn.state,
        text=turn.text,
        heard=Heard.model_validate(written) if written else None,
        route=turn.route,
        answer="\n\n".join(part["text"] or part["spoken"] for part in parts),
        choices=[Choice(**choice) for part in parts for choice in part["choices"]],
        sound=SpokenAnswer.of(voice) if voice else None,
        error=turn.error,
    )


async def line_of(service: Service, kind: str, *, name: str = "", slug: str = "") -> Line:
    """A line by its name or its page's address. Raises NotThere."""
    async with service.database.reading() as session:
        wanted = select(Line).where(Line.kind == kind)
        wanted = wanted.where(Line.name == name) if name else wanted.where(Line.slug == slug)
        record = (await session.execute(wanted)).scalar_one_or_none()
    if record is None:
        raise NotThere("there is no such line" if slug else f"there is no {kind} line {name!r}")
    return record


def given_sound(text: str) -> bytes:
    """Sound given as base64 or as a data URI. Raises NothingAsked for anything else."""
    if text.startswith("data:"):
        text = text.partition(",")[2]
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError) as error:
        raise NothingAsked("sound must be base64, or a data URI with base64") from error
