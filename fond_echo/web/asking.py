"""Asking and waiting for the answer in one exchange: what the HTTP channel and the public page
do."""

from __future__ import annotations

import asyncio
import base64
import binascii
import contextlib
import time
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from hashlib import sha256

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.asking import AskOut, AttachedFile, FileIn, SpokenAnswer
from fond_echo.contract.base import new_id
from fond_echo.contract.channel import ChannelSettings, FileHandle, Inbound, SoundHandle
from fond_echo.contract.clip import ClipRef
from fond_echo.contract.reply import elements_of
from fond_echo.contract.turn import Heard
from fond_echo.store.clips import clip_ref
from fond_echo.store.inbound import take_in_once
from fond_echo.store.records import Channel, ClipRecord, Conversation, Delivery, Stage, Turn
from fond_echo.store.records import Inbound as Arrived
from fond_echo.turns.results import result_of
from fond_echo.turns.turn import Answered, FetchedSound
from fond_echo.web.errors import Conflict, NotFound, NothingAsked, TooBusy
from fond_echo.web.service import Service

ENDED = frozenset(("answered", "failed", "cancelled"))
LOOK_SECONDS = 2.0

ALONG = frozenset(("attached", "drawn"))
"""Origins of what goes along with an answer and is not its sound."""
"""How often a turn is looked at without being told that it has ended."""


@asynccontextmanager
async def one_more(service: Service, channel: str, most: int) -> AsyncIterator[None]:
    """Count a request that waits for an answer. Raises TooBusy over the limit."""
    if service.asking.get(channel, 0) >= most:
        raise TooBusy(f"{most} questions are being answered", remedy="ask again in a moment")
    service.asking[channel] = service.asking.get(channel, 0) + 1
    try:
        yield
    finally:
        service.asking[channel] -= 1


async def ask(
    service: Service,
    channel: str,
    settings: ChannelSettings,
    *,
    contact: str,
    conversation: str,
    name: str = "",
    text: str = "",
    choice: str | None = None,
    sound: bytes = b"",
    files: Sequence[NewFile] = (),
    spoken_reply: bool | None = None,
    message_id: str = "",
    wait: float,
) -> AskOut:
    """Take a question in and wait for its answer, at most `wait` seconds.

    Raises:
        NothingAsked, or Conflict where the contact is blocked.
    """
    if not text and not sound and choice is None and not files:
        raise NothingAsked("there is neither text nor sound in the request")
    handle = SoundHandle(handle=new_id(), kind="note") if sound else None
    handles = [(new_id(), each) for each in files]
    message = Inbound(
        id=_scoped(contact, message_id) if message_id else new_id(),
        conversation=conversation,
        contact=contact,
        name=name,
        text=text or "\n".join(each.caption for each in files if each.caption),
        choice=choice,
        sound=handle,
        files=[
            FileHandle(handle=id_, media_type=each.media_type, name=each.name, caption=each.caption)
            for id_, each in handles
        ],
        spoken_reply=spoken_reply,
    )
    begun = time.monotonic()
    # What makes two requests the same, so that a key is not used for two.
    digests = [sha256(each).digest() for each in (sound, *(each.data for each in files))]
    same = sha256(repr((text, choice, digests, spoken_reply, conversation)).encode())
    along = {id_: each.data for id_, each in handles}
    if handle is not None:
        along[handle.handle] = sound
    taken = await take_in_once(
        service.database, channel, settings, message,
        {"fingerprint": same.hexdigest()}, along=along,
    )  # fmt: skip
    turn_id = taken.turn_id
    if taken.why == "known":
        turn_id = await _turn_of(service, channel, message.id, same.hexdigest())
    elif not turn_id:
        raise Conflict("this contact is not answered here", remedy="see the channel's contacts")
    return await answer_of(service, turn_id, wait - (time.monotonic() - begun))


def _scoped(contact: str, key: str) -> str:
    """The id of a message with an idempotency key: the same key of two contacts is two."""
    return "key-" + sha256(f"{contact}\0{key}".encode()).hexdigest()


async def _turn_of(service: Service, channel: str, message_id: str, same: str) -> str:
    """The turn that a request made when it came before. Raises Conflict for another request."""
    async with service.database.reading() as session:
        wanted = select(Arrived.turn_id, Arrived.payload).where(
            Arrived.channel == channel, Arrived.external_id == message_id
        )
        row = (await session.execute(wanted)).one()
    if row.payload.get("fingerprint") != same:
        raise Conflict(
            "this Idempotency-Key was used for another request",
            remedy="use a new key for every request, and the same only to send one again",
        )
    return str(row.turn_id)


async def answer_of(service: Service, turn_id: str, wait: float = 0.0) -> AskOut:
    """What came of a turn, once it has ended or the wait is over."""
    deadline = time.monotonic() + wait
    with service.feed.ending(turn_id) as ended:
        while True:
            async with service.database.reading() as session:
                turn = await session.get(Turn, turn_id)
                if turn is None:
                    raise NotFound(f"there is no turn {turn_id}")
                left = deadline - time.monotonic()
                if turn.state in ENDED or left <= 0:
                    return await _reported(session, turn)
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(min(LOOK_SECONDS, left)):
                    await ended.wait()
            ended.clear()


async def _reported(session: AsyncSession, turn: Turn) -> AskOut:
    stages = select(Stage).where(Stage.run_id == turn.run_id, Stage.outcome == "done")
    results = {stage.name: result_of(stage) for stage in (await session.execute(stages)).scalars()}
    sent = (
        select(Delivery, ClipRecord)
        .outerjoin(ClipRecord, ClipRecord.id == Delivery.clip_id)
        .where(Delivery.run_id == turn.run_id, Delivery.part >= 0)
        .order_by(Delivery.part)
    )
    deliveries = (await session.execute(sent)).all()
    conversation = await session.get_one(Conversation, turn.conversation_id)
    answered, heard = results.get("answer"), results.get("transcribe")
    fetched = results.get("fetch")
    fetched = fetched if isinstance(fetched, FetchedSound) else FetchedSound()
    parts = answered.final if isinstance(answered, Answered) else []
    voice: ClipRef | None = next(
        (clip_ref(clip) for _, clip in deliveries if clip and clip.origin not in ALONG), None
    )
    along = [
        AttachedFile(
            name=str(sent.extra.get("name", "")), link=str(sent.extra.get("url", "")),
            media_type=str(sent.extra.get("media_type", "")), clip=clip.id if clip else "",
        )
        for sent, clip in deliveries
        if sent.kind in ("picture", "file") and (clip is None or clip.origin in ALONG)
    ]  # fmt: skip
    return AskOut(
        turn=turn.id,
        conversation=conversation.external_id,
        state=turn.state,
        text=turn.text,
        files=[each.name or each.media_type for each in fetched.files],
        heard=heard if isinstance(heard, Heard) else None,
        route=turn.route,
        answer="\n\n".join(part.written for part in parts),
        **elements_of(parts),
        sound=SpokenAnswer.of(voice) if voice else None,
        attachments=along,
        error=turn.error,
    )


async def channel_of(service: Service, kind: str, *, name: str = "", slug: str = "") -> Channel:
    """A channel by its name or its page's address. Raises NotFound."""
    async with service.database.reading() as session:
        wanted = select(Channel).where(Channel.kind == kind)
        wanted = wanted.where(Channel.name == name) if name else wanted.where(Channel.slug == slug)
        record = (await session.execute(wanted)).scalar_one_or_none()
    if record is None:
        raise NotFound(
            "there is no such channel" if slug else f"there is no {kind} channel {name!r}"
        )
    return record


@dataclass(frozen=True)
class NewFile:
    """A picture or another file that goes along with a question."""

    data: bytes
    media_type: str = ""
    name: str = ""
    caption: str = ""


def given_files(files: Sequence[FileIn]) -> list[NewFile]:
    """Files given as base64 or as data URIs. Raises NothingAsked for anything else."""
    found = []
    for each in files:
        kind = each.media_type
        if each.content.startswith("data:") and not kind:
            kind = each.content[5:200].partition(",")[0].partition(";")[0]
        data = _of_base64(each.content, "a file's content")
        found.append(NewFile(data, kind, each.name, each.caption))
    return found


def given_sound(text: str) -> bytes:
    """Sound given as base64 or as a data URI. Raises NothingAsked for anything else."""
    return _of_base64(text, "sound")


def _of_base64(text: str, what: str) -> bytes:
    if text.startswith("data:"):
        text = text.partition(",")[2]
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError) as error:
        raise NothingAsked(f"{what} must be base64, or a data URI with base64") from error
