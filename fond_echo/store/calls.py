"""Calls: who called whom, what became of it, and the pages of what was recorded."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import ForeignKey, Index, bindparam, delete, func, select, text, update
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import Mapped, mapped_column

from fond_echo.contract.base import new_id
from fond_echo.store.base import Json, Record
from fond_echo.store.blobs import BlobStore
from fond_echo.store.clips import delete_clips, stored
from fond_echo.store.events import emit
from fond_echo.store.notices import announce
from fond_echo.store.records import ClipRecord, Turn

ENDING = "call.ending"
"""The type of the notice that somebody wants a call to be over."""


class Call(Record):
    """A call of a phone channel.

    `direction` is in or out. `state`: asked (to be placed at `due_at`), placing, ringing, answered,
    ended. `cause` says why it ended, `by` whom, `status` with which answer. `answered_by` is
    person, machine or unknown, of calls that we placed. `attempts` tells of each try of those,
    `order` what was asked for, with the id of a clip for an opening's sound. `dialog` is what a BYE
    needs, kept while the call is open. `timeline` holds what happened, in seconds from the answer;
    `waveforms` how loud both sides were, by tenths of a second. `conversation` is the place of its
    turns. `erased_at` says when who was in it was erased: of a call that goes on, nothing is kept
    from then on that tells of them.
    """

    __tablename__ = "calls"
    __table_args__ = (
        Index(None, "channel", "requested_at", "id"),
        Index(None, "state", "due_at"),
        Index(None, "conversation"),
        Index(None, "recording_id"),
        Index(None, "channel", "ended_at"),
        Index("ix_calls_short_id", text("right(id, 12)")),
    )
    id: Mapped[str] = mapped_column(primary_key=True, default=new_id)
    channel: Mapped[str] = mapped_column(ForeignKey("channels.name", onupdate="CASCADE"))
    direction: Mapped[str]
    caller: Mapped[str]
    number: Mapped[str]
    conversation: Mapped[str]
    state: Mapped[str]
    cause: Mapped[str] = mapped_column(default="")
    by: Mapped[str] = mapped_column(default="")
    status: Mapped[int] = mapped_column(default=0)
    answered_by: Mapped[str] = mapped_column(default="")
    ending: Mapped[bool] = mapped_column(default=False)
    order: Mapped[Json] = mapped_column(default=dict)
    attempts: Mapped[list[Any]] = mapped_column(default=list)
    dialog: Mapped[Json | None]
    timeline: Mapped[list[Any]] = mapped_column(default=list)
    quality: Mapped[Json | None]
    waveforms: Mapped[Json | None]
    recording_id: Mapped[str | None] = mapped_column(ForeignKey("clips.id"))
    requested_at: Mapped[datetime] = mapped_column(server_default=func.now())
    due_at: Mapped[datetime | None]
    answered_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    erased_at: Mapped[datetime | None]


class RecordingPage(Record):
    """Half a second of a call's recording, as it goes into the file."""

    __tablename__ = "recording_pages"
    call_id: Mapped[str] = mapped_column(
        ForeignKey("calls.id", ondelete="CASCADE"), primary_key=True
    )
    number: Mapped[int] = mapped_column(primary_key=True)
    data: Mapped[bytes]


_APPEND = text(
    "UPDATE calls SET timeline = timeline || jsonb_build_array(CAST(:entry AS jsonb))"
    " WHERE id = :id AND erased_at IS NULL"
).bindparams(bindparam("entry", type_=JSONB))

_KEEP_PAGE = text(
    "INSERT INTO recording_pages (call_id, number, data)"
    " SELECT id, :number, :data FROM calls WHERE id = :id AND erased_at IS NULL"
)

PERSONAL = frozenset(("number", "caller", "keys", "to"))
"""What an event of a call may tell of who was in it."""


async def happened(
    session: AsyncSession, call: str, channel: str, kind: str, at: float | None,
    data: Mapping[str, Any],
) -> None:  # fmt: skip
    """Write down an event of a call, on its timeline too.

    Args:
        at: seconds from the answer; None before there was one.
    """
    entry = {"at": None if at is None else round(at, 2), "kind": kind, **data}
    appended = await session.execute(_APPEND, {"entry": entry, "id": call})
    if not appended.rowcount:  # type: ignore[attr-defined]
        data = {name: value for name, value in data.items() if name not in PERSONAL}
    await emit(session, f"call.{kind}", call, channel=channel, **data)


async def ask_for_call(
    session: AsyncSession, channel: str, number: str, caller: str, order: Mapping[str, Any],
    after: float = 0.0,
) -> Call:  # fmt: skip
    """A call to be placed from a channel as soon as its limits let it, after so many seconds."""
    due = datetime.now(UTC) + timedelta(seconds=after)
    call = Call(
        id=new_id(), channel=channel, direction="out", caller=caller, number=number,
        state="requested", conversation="", order=dict(order), due_at=due,
    )  # fmt: skip
    session.add(call)
    await session.flush()
    await session.refresh(call)
    await emit(session, "call.requested", call.id, channel=channel, number=number)
    return call


async def change(session: AsyncSession, call: str, **values: Any) -> None:
    """Change what is known of a call."""
    await session.execute(update(Call).where(Call.id == call).values(**values))


async def end(session: AsyncSession, call: Call) -> None:
    """Have a call ended by the process that carries it, or not placed after all."""
    call.ending = True
    await announce(session, ENDING, call.id)


async def due_calls(session: AsyncSession, channel: str, most: int) -> list[Call]:
    """Calls that are to be placed now; from here on they are being placed."""
    now = datetime.now(UTC)
    wanted = (
        select(Call)
        .where(
            Call.channel == channel,
            Call.state == "requested",
            Call.due_at <= now,
            Call.ending.is_(False),
        )
        .order_by(Call.due_at, Call.id)
        .limit(most)
        .with_for_update(skip_locked=True)
    )
    found = list((await session.execute(wanted)).scalars())
    for call in found:
        call.state = "dialing"
    return found


async def open_calls(session: AsyncSession, channel: str) -> list[Call]:
    """Calls that were under way when the process that carried them stopped."""
    states = ("dialing", "ringing", "answered")
    wanted = select(Call).where(Call.channel == channel, Call.state.in_(states))
    return list((await session.execute(wanted)).scalars())


async def waiting(session: AsyncSession, channel: str) -> tuple[list[str], bool]:
    """Calls that somebody wants to be over, and whether there are any to be placed now."""
    requested = (Call.state == "requested") & (Call.due_at <= func.now())
    wanted = select(Call.id, Call.ending).where(
        Call.channel == channel, Call.state != "ended", Call.ending | requested
    )
    found = (await session.execute(wanted.limit(200))).all()
    return [id for id, ending in found if ending], any(not ending for _, ending in found)


async def minutes_today(session: AsyncSession, channel: str) -> float:
    """Minutes for which calls that we placed were answered since midnight (UTC)."""
    midnight = datetime.now(UTC).replace(hour=0, minute=0, second=0, microsecond=0)
    length = func.extract("epoch", func.coalesce(Call.ended_at, func.now()) - Call.answered_at)
    wanted = select(func.coalesce(func.sum(length), 0)).where(
        Call.channel == channel, Call.direction == "out", Call.answered_at >= midnight
    )
    return float((await session.execute(wanted)).scalar_one()) / 60


async def keep_pages(session: AsyncSession, pages: Sequence[tuple[str, int, bytes]]) -> None:
    """Keep pages of recordings: of each the call, its number and the data. It is not waited for
    until they are on the disk: a crash of the database may take the last of them."""
    await session.execute(text("SET LOCAL synchronous_commit TO OFF"))
    rows = [{"id": call, "number": number, "data": data} for call, number, data in pages]
    await session.execute(_KEEP_PAGE, rows)


async def is_over(session: AsyncSession, call: str) -> bool:
    """Whether the end of a call is written down; others wait who want to write it too."""
    row = await session.get(Call, call, with_for_update=True)
    return row is not None and row.state == "ended"


async def bind_recording(
    session: AsyncSession, blobs: BlobStore, call: str, media_type: str
) -> ClipRecord | None:
    """Make one file of a call's pages, as far as they came; None where there are none."""
    wanted = select(RecordingPage.data).where(RecordingPage.call_id == call)
    pages = (await session.execute(wanted.order_by(RecordingPage.number))).scalars().all()
    if not pages:
        return None
    record = await stored(session, blobs, b"".join(pages), media_type, "recorded")
    await change(session, call, recording_id=record.id)
    await session.execute(delete(RecordingPage).where(RecordingPage.call_id == call))
    return record


_FORGET = text("UPDATE events SET data = data - CAST(:personal AS text[]) WHERE subject = :call")
_FORGET_WEBHOOK_DELIVERIES = text("DELETE FROM webhook_deliveries WHERE event->>'subject' = :call")


async def erase_calls(session: AsyncSession, blobs: BlobStore, channel: str, number: str) -> None:
    """Erase who was in calls with a number, what was pressed and said, and their recordings; also
    of calls that nobody answered."""
    mine = select(Call).where(
        Call.channel == channel,
        ((Call.direction == "in") & (Call.caller == number))
        | ((Call.direction == "out") & (Call.number == number)),
    )
    for call in (await session.execute(mine)).scalars().all():
        await _erase(session, blobs, call)


async def keep_calls_no_longer(
    session: AsyncSession,
    blobs: BlobStore,
    channel: str,
    before: datetime,
    *,
    words: bool,
    most: int,
) -> int:
    """Erase recordings of calls that ended before a time, and with `words` also who was in them;
    gives how many calls it was."""
    sound = Call.recording_id.is_not(None) | (Call.order["opening"]["sound"].astext != "")
    kept = Call.erased_at.is_(None) if words else sound
    wanted = select(Call).where(Call.channel == channel, Call.ended_at < before, kept).limit(most)
    found = (await session.execute(wanted)).scalars().all()
    for call in found:
        if words:
            await _erase(session, blobs, call)
        else:
            await _erase_sound(session, blobs, call)
    return len(found)


async def _erase(session: AsyncSession, blobs: BlobStore, call: Call) -> None:
    await _erase_sound(session, blobs, call)
    call.caller = call.number = ""
    call.order, call.timeline = {}, []
    call.erased_at = datetime.now(UTC)
    if call.ended_at is not None:
        call.dialog = None
    await session.execute(_FORGET, {"call": call.id, "personal": sorted(PERSONAL)})
    await session.execute(_FORGET_WEBHOOK_DELIVERIES, {"call": call.id})


async def _erase_sound(session: AsyncSession, blobs: BlobStore, call: Call) -> None:
    opening = call.order.get("opening", {})
    clips = [each for each in (call.recording_id, opening.get("sound")) if each]
    call.recording_id, call.waveforms = None, None
    if opening:
        call.order = {**call.order, "opening": {**opening, "sound": ""}}
    await session.flush()
    await session.execute(delete(RecordingPage).where(RecordingPage.call_id == call.id))
    if clips:
        await delete_clips(session, blobs, ClipRecord.id.in_(clips))


async def take_back(session: AsyncSession, conversation_id: str) -> int:
    """End the calls that were asked for in a conversation and are not placed yet; how many."""
    asked = select(Turn.id).where(Turn.conversation_id == conversation_id)
    ended = (
        update(Call)
        .where(Call.state == "requested", Call.order["asked_by"].as_string().in_(asked))
        .values(state="ended", cause="taken-back", by="them", ended_at=func.now())
        .returning(Call.id)
    )
    return len((await session.execute(ended)).all())
