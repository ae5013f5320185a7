"""Calls: those that were, and those that are to be placed."""

from __future__ import annotations

import asyncio
from typing import Annotated

from fastapi import Path
from sqlalchemy import select, tuple_

from fond_echo.contract.api import Page
from fond_echo.contract.base import JsonObject, Name
from fond_echo.contract.call import Attempt, CallDetail, CallIn, CallOut, Happening, Waveforms
from fond_echo.core.audio.containers import encode
from fond_echo.core.telephony.errors import MalformedValue
from fond_echo.documents.phone import read_phone
from fond_echo.phone.opening import sound_of
from fond_echo.store.calls import Call, ask_for_call, end
from fond_echo.store.clips import clip_ref, stored
from fond_echo.store.records import Assistant, Channel, ClipRecord
from fond_echo.web.access import MayOperate, MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import Conflict, NotFound
from fond_echo.web.paging import Cursor, Limit, next_cursor, place, whole_id
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api", tags=["calls"])

ChannelName = Annotated[Name, Path()]
CallId = Annotated[str, Path(max_length=60)]


def _values(call: Call) -> JsonObject:
    length = None
    if call.answered_at is not None and call.ended_at is not None:
        length = round((call.ended_at - call.answered_at).total_seconds(), 2)
    names = (
        "id", "channel", "direction", "caller", "number", "state", "cause", "by", "status",
        "answered_by", "requested_at", "due_at", "answered_at", "ended_at",
    )  # fmt: skip
    attempts = [Attempt.model_validate(each) for each in call.attempts]
    return {
        **{name: getattr(call, name) for name in names},
        "attempts": attempts,
        "seconds": length,
    }


def _happening(entry: JsonObject) -> Happening:
    about = {name: value for name, value in entry.items() if name not in ("at", "kind")}
    return Happening(at=entry["at"], kind=entry["kind"], about=about)


@router.post("/channels/{channel}/calls", status_code=201)
async def place_call(
    channel: ChannelName, given: CallIn, _: MayOperate, service: TheService
) -> CallDetail:
    """Place a call from a phone channel, as soon as its limits let it."""
    order = given.model_dump(mode="json")
    clip = await sound_of(given.opening.sound) if given.opening.sound else None
    async with service.database.writing() as session:
        record = await session.get(Channel, channel)
        if record is None:
            raise NotFound(f"there is no channel {channel!r}")
        if record.kind != "phone":
            raise Conflict(
                f"the channel {channel!r} is no phone channel", remedy="see fond-echo channel list"
            )
        phone = read_phone(record.connector, f"{channel}.yaml")
        number = phone.may_be_called(given.to)
        caller = given.caller or (phone.numbers[0] if phone.numbers else channel)
        if given.caller and given.caller not in phone.numbers:
            raise MalformedValue(
                f"{given.caller!r} is no number of the channel {channel!r}",
                where="caller",
                remedy=f"its numbers: {', '.join(phone.numbers) or 'none'}",
            )
        named = given.opening.assistant
        if named and ((found := await session.get(Assistant, named)) is None or not found.live):
            raise NotFound(f"there is no published assistant {named!r}", remedy="publish it first")
        if clip is not None:
            data = await asyncio.to_thread(encode, clip, "flac")
            sound = await stored(session, service.blobs, data, "audio/flac", "opening")
            sound.seconds, sound.rate = clip.seconds, clip.rate
            order["opening"]["sound"] = sound.id
        call = await ask_for_call(session, channel, number, caller, order)
        return CallDetail(
            **_values(call), conversation="", timeline=[], quality=None, recording=None
        )


@router.get("/channels/{channel}/calls")
async def list_calls(
    channel: ChannelName, _: MayRead, service: TheService,
    cursor: Cursor = "", limit: Limit = 50,
) -> Page[CallOut]:  # fmt: skip
    """List a channel's calls, the latest first."""
    wanted = (
        select(Call)
        .where(Call.channel == channel)
        .order_by(Call.requested_at.desc(), Call.id.desc())
    )
    if (start := place(cursor)) is not None:
        wanted = wanted.where(tuple_(Call.requested_at, Call.id) < start)
    async with service.database.reading() as session:
        if await session.get(Channel, channel) is None:
            raise NotFound(f"there is no channel {channel!r}")
        rows = list((await session.execute(wanted.limit(limit + 1))).scalars())
    items = [CallOut(**_values(each)) for each in rows[:limit]]
    following = next_cursor(items[-1].requested_at, items[-1].id) if len(rows) > limit else ""
    return Page(items=items, next=following)


@router.get("/calls/{call_id}")
async def get_call(call_id: CallId, _: MayRead, service: TheService) -> CallDetail:
    """Get a call with everything that happened in it."""
    async with service.database.reading() as session:
        call = await session.get(Call, await whole_id(session, Call, call_id))
        if call is None:
            raise NotFound(f"there is no call {call_id}")
        clip = await session.get(ClipRecord, call.recording_id) if call.recording_id else None
    return CallDetail(
        **_values(call),
        conversation=call.conversation,
        timeline=[_happening(each) for each in call.timeline],
        quality=call.quality,
        recording=clip_ref(clip) if clip is not None else None,
        waveforms=Waveforms.model_validate(call.waveforms) if call.waveforms else None,
    )


@router.post("/calls/{call_id}/end", status_code=202)
async def end_call(call_id: CallId, bearer: MayOperate, service: TheService) -> CallDetail:
    """End a call, or cancel one that was not placed yet."""
    async with service.database.writing() as session:
        call_id = await whole_id(session, Call, call_id)
        call = await session.get(Call, call_id, with_for_update=True)
        if call is None:
            raise NotFound(f"there is no call {call_id}")
        if call.state == "ended":
            raise Conflict(f"the call {call_id} is over")
        await end(session, call)
    return await get_call(call_id, bearer, service)
