"""Benches of engines: what each made of the same recordings or texts, ranked."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from typing import Annotated

from fastapi import Body, Path, Query, Response
from sqlalchemy import delete, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.base import Name
from fond_echo.contract.bench import (
    AlignedAnswer,
    BenchAnswer,
    BenchDetail,
    BenchIn,
    BenchOut,
    BenchStep,
    DifferenceOut,
    StandingOut,
)
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.recognition.ranking import Heard, difference, ranked, standing
from fond_echo.core.recognition.scoring import edits
from fond_echo.store.access_records import Bench
from fond_echo.store.access_records import BenchAnswer as Row
from fond_echo.web.access import MayAdmin, MayBuild
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import Conflict, NotFound
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/benches", tags=["engines"])

BenchName = Annotated[Name, Path()]
Answers = Annotated[list[BenchAnswer], Body(min_length=1, max_length=500)]
FIELDS = tuple(BenchAnswer.model_fields)


def _aligned(rows: Sequence[Row], language: str) -> list[AlignedAnswer]:
    spoken = language_of(language).writing.spoken_tokens
    found = []
    for row in rows:
        words = spoken(row.said)
        wrong = None if row.why else edits(words, spoken(row.text))
        steps = wrong.steps if wrong is not None else ()
        given = {name: getattr(row, name) for name in FIELDS}
        found.append(AlignedAnswer(
            **given, errors=len(words) if wrong is None else wrong.errors, word_count=len(words),
            steps=[BenchStep(step=each.step, said=each.said, heard=each.heard) for each in steps],
        ))  # fmt: skip
    return found


def _heard(rows: Sequence[Row], language: str) -> list[Heard]:
    spoken = language_of(language).writing.spoken_tokens
    found = []
    for row in rows:
        words = spoken(row.said)
        wrong = None if row.why else edits(words, spoken(row.text))
        found.append(Heard(row.file, wrong, len(words), row.seconds, row.cost, row.why))
    return found


def _ranked(rows: Sequence[Row], language: str) -> list[StandingOut]:
    engines: dict[str, list[Row]] = {}
    for row in rows:
        engines.setdefault(row.engine, []).append(row)
    standings = []
    for name, answers in engines.items():
        heard = _heard(answers, language)
        if any(one.words for one in heard):
            standings.append(standing(name, heard))
    found = []
    for each in ranked(standings):
        spoken = [row for row in engines[each.name] if row.length] or [Row()]
        done = max(1, each.files - each.failed)
        mean = {
            name: round(sum(getattr(row, name) or 0.0 for row in spoken) / len(spoken), 3)
            for name in ("length", "level", "first_seconds")
        }
        found.append(StandingOut(
            engine=each.name, files=each.files, failed=each.failed, rate=each.rate, low=each.low,
            high=each.high, kinds=each.kinds, wait=each.wait, long_wait=each.long_wait,
            cost=each.cost, cost_each=each.cost / done, worst=list(each.worst), **mean,
        ))  # fmt: skip
    return found


async def _rows(session: AsyncSession, name: str, engine: str = "") -> tuple[Bench, list[Row]]:
    bench = await session.get(Bench, name)
    if bench is None:
        raise NotFound(f"there is no bench {name}")
    wanted = select(Row).where(Row.bench == name).order_by(Row.file, Row.engine)
    if engine:
        wanted = wanted.where(Row.engine == engine)
    return bench, list(await session.scalars(wanted))


def _out(bench: Bench, rows: Sequence[Row]) -> BenchOut:
    return BenchOut.model_validate(
        {"name": bench.name, "does": bench.does, "language": bench.language,
         "created_at": bench.created_at, "ranked": _ranked(rows, bench.language)}
    )  # fmt: skip


@router.get("")
async def list_benches(_: MayBuild, service: TheService) -> list[BenchOut]:
    """List all benches, the latest first, each with its engines ranked."""
    async with service.database.reading() as session:
        benches = list(await session.scalars(select(Bench).order_by(Bench.created_at.desc())))
        found = [(bench, (await _rows(session, bench.name))[1]) for bench in benches]
    return await asyncio.to_thread(lambda: [_out(*each) for each in found])


@router.put("/{name}")
async def put_bench(name: BenchName, given: BenchIn, _: MayAdmin, service: TheService) -> BenchOut:
    """Begin a bench, or go on with it."""
    async with service.database.writing() as session:
        made = insert(Bench).values(name=name, does=given.does, language=given.language)
        await session.execute(made.on_conflict_do_nothing())
        bench, rows = await _rows(session, name)
        if (bench.does, bench.language) != (given.does, given.language):
            raise Conflict(
                f"the bench {name} is of engines that {bench.does} {bench.language}",
                remedy="give the new one another name, or delete the old one",
            )
    return await asyncio.to_thread(_out, bench, rows)


@router.post("/{name}/answers", status_code=204)
async def add_answers(
    name: BenchName, given: Answers, _: MayAdmin, service: TheService
) -> Response:
    """Add the answers of engines to a bench; what was there of the same is replaced."""
    async with service.database.writing() as session:
        await _rows(session, name)
        for each in given:
            fields = each.model_dump()
            put = insert(Row).values(bench=name, **fields)
            keys = [Row.bench, Row.engine, Row.file]
            await session.execute(put.on_conflict_do_update(index_elements=keys, set_=fields))
    return Response(status_code=204)


@router.get("/{name}")
async def get_bench(name: BenchName, _: MayBuild, service: TheService) -> BenchDetail:
    """Get a bench with every answer beside what was said."""
    async with service.database.reading() as session:
        bench, rows = await _rows(session, name)

    def made() -> BenchDetail:
        out = _out(bench, rows)
        return BenchDetail(**dict(out), answers=_aligned(rows, bench.language))

    return await asyncio.to_thread(made)


@router.get("/{name}/differences")
async def compare_engines(
    name: BenchName,
    _: MayBuild,
    service: TheService,
    first: Annotated[Name, Query(description="an engine")],
    second: Annotated[Name, Query(description="another, or the same in another bench")],
    other: Annotated[str, Query(max_length=60, description="the bench of the second")] = "",
) -> DifferenceOut:
    """Compare two engines on the same files, or one engine in two benches."""
    other = other or name
    async with service.database.reading() as session:
        bench, mine = await _rows(session, name, first)
        _bench, theirs = await _rows(session, other, second)
    for engine, of, rows in ((first, name, mine), (second, other, theirs)):
        if not rows:
            raise NotFound(f"the bench {of} has no answers of {engine}")
    try:
        found = difference(_heard(mine, bench.language), _heard(theirs, bench.language))
    except ValueError as error:
        raise Conflict(f"{error}", remedy="run both on the same folder") from error
    return DifferenceOut(
        first=first, second=second, files=found.files, by=found.by, low=found.low, high=found.high,
        certain=found.certain, better=list(found.better), worse=list(found.worse),
    )  # fmt: skip


@router.delete("/{name}", status_code=204)
async def delete_bench(name: BenchName, _: MayAdmin, service: TheService) -> Response:
    """Delete a bench and all its answers."""
    async with service.database.writing() as session:
        gone = delete(Bench).where(Bench.name == name).returning(Bench.name)
        if (await session.execute(gone)).scalar_one_or_none() is None:
            raise NotFound(f"there is no bench {name}")
    return Response(status_code=204)
