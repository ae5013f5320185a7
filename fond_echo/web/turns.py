"""Turns, as the log shows them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Annotated, Any

from fastapi import Path, Query
from sqlalchemy import ColumnElement, FromClause, Select, func, select, text, tuple_
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.api import (
    DeliveryOut,
    FileOut,
    Page,
    RunOut,
    StageOut,
    TurnDetail,
    TurnOut,
)
from fond_echo.contract.base import JsonObject
from fond_echo.contract.clip import ClipRef
from fond_echo.core.dialogue.verdict import VerdictKind
from fond_echo.store.clips import clip_ref
from fond_echo.store.records import (
    ClipRecord,
    Contact,
    Conversation,
    Delivery,
    Inbound,
    Run,
    Stage,
    Turn,
)
from fond_echo.turns.results import result_of
from fond_echo.turns.turn import DecodedClip, FetchedSound
from fond_echo.web.access import MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import NotFound
from fond_echo.web.paging import Cursor, Limit, next_cursor, place, whole_id
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api", tags=["log"])

LATEST, MORE = 500, 10_000
"""So many of the latest turns are looked through for words: at first, and where very many have
them."""
FEW = 2_000
"""Turns with words that are so few are looked up by them."""
LATEST_FIRST = (Turn.received_at.desc(), Turn.id.desc())

TurnId = Annotated[str, Path(max_length=60)]
Filter = Annotated[str, Query(max_length=60)]


@router.get("/turns")
async def list_turns(
    _: MayRead,
    service: TheService,
    conversation: Filter = "",
    channel: Filter = "",
    state: Filter = "",
    draft: Annotated[
        bool | None, Query(description="only testers' turns, or only those of everyone else")
    ] = None,
    said: Annotated[str, Query(alias="text", max_length=200)] = "",
    verdict: Annotated[
        VerdictKind | None, Query(description="only turns whose free answer was judged so")
    ] = None,
    cursor: Cursor = "",
    limit: Limit = 50,
) -> Page[TurnOut]:
    """List turns, the latest first. `text` finds those in which all these words were said, among
    the first 100,000 characters of each."""
    where: list[ColumnElement[bool]] = []
    if conversation:
        where.append(Turn.conversation_id == conversation)
    if channel:
        where.append(Turn.channel == channel)
    if state:
        where.append(Turn.state == state)
    if draft is not None:
        where.append(Turn.draft.is_(draft))
    if verdict is not None:
        judged = select(Stage.run_id).where(
            Stage.run_id == Turn.run_id, Stage.name == "answer",
            Stage.output["verdict"]["kind"].astext == verdict,
        )  # fmt: skip
        where.append(judged.exists())
    if (start := place(cursor)) is not None:
        where.append(tuple_(Turn.received_at, Turn.id) < start)
    async with service.database.reading() as session:
        if said:
            where.append(Turn.id.in_(await _with_words(session, said, where, limit + 1)))
        ordered = _turns().where(*where).order_by(*LATEST_FIRST).limit(limit + 1)
        rows = (await session.execute(ordered)).all()
        items = await _outs(session, rows[:limit])
    following = next_cursor(items[-1].received_at, items[-1].id) if len(rows) > limit else ""
    return Page(items=items, next=following)


@router.get("/turns/{turn_id}")
async def get_turn(turn_id: TurnId, _: MayRead, service: TheService) -> TurnDetail:
    """Get a turn with its runs, stages and the message that came in."""
    async with service.database.reading() as session:
        turn_id = await whole_id(session, Turn, turn_id)
        rows = (await session.execute(_turns().where(Turn.id == turn_id))).all()
        if not rows:
            raise NotFound(f"there is no turn {turn_id}")
        (out,) = await _outs(session, rows)
        runs = await session.execute(
            select(Run).where(Run.turn_id == turn_id).order_by(Run.started_at)
        )
        inbound = await session.execute(select(Inbound.payload).where(Inbound.turn_id == turn_id))
        reported = [await _run(session, run) for run in runs.scalars()]
        payload: JsonObject = inbound.scalar_one_or_none() or {}
    return TurnDetail(**out.model_dump(), runs=reported, inbound=payload)


async def _with_words(
    session: AsyncSession, words: str, where: Sequence[ColumnElement[bool]], wanted: int
) -> list[str]:
    """The latest turns, at least so many as are wanted, in which all these words were said.

    Words that most turns have are found among the latest, as their index would be read whole for
    them; rare ones by their index. Those that many turns have are looked for among more of the
    latest, for they may all be old: to go back in time to them would take seconds.
    """
    said = Turn.text_search.op("@@")(func.plainto_tsquery(text("'simple'"), words))

    async def ids(of: FromClause, *also: ColumnElement[bool]) -> list[str]:
        latest = select(of.c.id).where(*also).order_by(of.c.received_at.desc(), of.c.id.desc())
        return list((await session.execute(latest.limit(wanted))).scalars())

    async def among_latest(count: int) -> list[str]:
        turns = select(Turn.id, Turn.received_at, said.label("said")).where(*where)
        latest = turns.order_by(*LATEST_FIRST).limit(count).subquery()
        return await ids(latest, latest.c.said)

    if len(found := await among_latest(LATEST)) >= wanted:
        return found
    few = (await session.execute(select(Turn.id).where(said).limit(FEW))).scalars().all()
    if len(few) < FEW:
        return list(few)
    if len(found := await among_latest(MORE)) >= wanted:
        return found
    all_ = select(Turn.id, Turn.received_at).where(said, *where).cte()
    return await ids(all_.prefix_with("MATERIALIZED", dialect="postgresql"))


def _turns() -> Select[Turn, Conversation, Contact]:
    return (
        select(Turn, Conversation, Contact)
        .join(Conversation, Conversation.id == Turn.conversation_id)
        .join(Contact, Contact.id == Conversation.contact_id)
    )


async def _outs(session: AsyncSession, rows: Sequence[Any]) -> list[TurnOut]:
    """Turns with their sound and deliveries, in two queries for all of them."""
    ids = [turn.id for turn, _, _ in rows]
    deliveries: dict[str, list[DeliveryOut]] = defaultdict(list)
    sent = (
        select(Delivery, ClipRecord)
        .outerjoin(ClipRecord, ClipRecord.id == Delivery.clip_id)
        .where(Delivery.turn_id.in_(ids))
        .order_by(Delivery.part)
    )
    for delivery, clip in (await session.execute(sent)).all():
        deliveries[delivery.turn_id].append(_delivery(delivery, clip))
    sounds, files = await _came(session, ids)
    return [
        TurnOut(
            id=turn.id,
            conversation=conversation.id,
            channel=turn.channel,
            contact_name=contact.shown_name,
            number=turn.number,
            cause=turn.cause,
            arrived_as=turn.arrived_as,
            text=turn.text,
            route=turn.route,
            state=turn.state,
            error=turn.error,
            sound=sounds.get(turn.id),
            files=files.get(turn.id, []),
            deliveries=deliveries[turn.id],
            received_at=turn.received_at,
            finished_at=turn.finished_at,
            sound_erased_at=turn.sound_erased_at,
            erased_at=turn.erased_at,
            draft=turn.draft,
        )
        for turn, conversation, contact in rows
    ]


async def _came(
    session: AsyncSession, turn_ids: list[str]
) -> tuple[dict[str, ClipRef], dict[str, list[FileOut]]]:
    """The sound that came in with each turn, as decoded, which has a waveform, else as fetched;
    and the files that came with it."""
    wanted = (
        select(Run.turn_id, Stage)
        .join(Stage, Stage.run_id == Run.id)
        .where(
            Run.turn_id.in_(turn_ids),
            Run.kind == "live",
            Stage.name.in_(("fetch", "decode")),
            Stage.outcome == "done",
        )
        .order_by(Stage.started_at)
    )
    found: dict[str, ClipRef] = {}
    files: dict[str, list[FileOut]] = {}
    for turn_id, stage in (await session.execute(wanted)).all():
        result = result_of(stage)
        if not isinstance(result, (FetchedSound, DecodedClip)):
            continue
        if isinstance(result, FetchedSound):
            files[turn_id] = [
                FileOut.model_validate(each.model_dump(exclude={"url"})) for each in result.files
            ]
        clip = result.clip
        if clip is None:
            continue
        fetched = found.get(turn_id)
        if fetched is not None:
            # Play what came in, draw what was made of it.
            changes = {"waveform": clip.waveform, "seconds": clip.seconds}
            clip = fetched.model_copy(update=changes)
        found[turn_id] = clip
    return found, files


def _delivery(record: Delivery, clip: ClipRecord | None) -> DeliveryOut:
    return DeliveryOut(
        id=record.id,
        kind=record.kind,
        state=record.state,
        text=record.text,
        clip=clip_ref(clip) if clip else None,
        attempts=record.attempts,
        external_id=record.external_id,
        exchanges=record.exchanges,
        error=record.error,
        planned_at=record.planned_at,
        settled_at=record.settled_at,
    )


async def _run(session: AsyncSession, run: Run) -> RunOut:
    wanted = select(Stage).where(Stage.run_id == run.id)
    rows = (await session.execute(wanted.order_by(Stage.started_at, Stage.attempt))).scalars()
    return RunOut(
        id=run.id,
        kind=run.kind,
        revision=run.revision,
        revision_erased_at=run.revision_erased_at,
        clock=run.clock,
        stages=[
            StageOut(
                name=stage.name,
                part=stage.part,
                attempt=stage.attempt,
                started_at=stage.started_at,
                seconds=stage.seconds,
                outcome=stage.outcome,
                input=stage.input,
                output=stage.output,
                error=stage.error,
                erased_at=stage.erased_at,
            )
            for stage in rows
        ],
    )
