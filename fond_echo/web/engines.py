"""Engines: connected by the text of a connector file, listed with what they did and cost."""

from __future__ import annotations

import base64
import time
from collections.abc import AsyncIterator, Sequence
from datetime import UTC, datetime, timedelta
from typing import Annotated

from fastapi import Path, Response
from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert

from fond_echo.contract.base import JsonObject, Name
from fond_echo.contract.engine import (
    EngineAsked,
    EngineDayOut,
    EngineIn,
    EngineOut,
    EngineTrialIn,
    EngineTrialOut,
)
from fond_echo.contract.reply import AnswerVerdict
from fond_echo.core.audio.clip import join
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.dialogue.free import FreeQuestion
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.documents.engine import EngineConnector, read_engine
from fond_echo.engines.built_in import NAME as BUILT_IN
from fond_echo.engines.described import Asking, DescribedEngine
from fond_echo.engines.live import recognizer_of
from fond_echo.store.access_records import EngineDay, EngineRecord
from fond_echo.store.engines import days_of
from fond_echo.web.access import MayAdmin, MayBuild
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import Conflict, NotFound
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/engines", tags=["engines"])

EngineName = Annotated[Name, Path()]
DAYS = 7
VOICE = "whimbrel"
"""The voice by default."""


def _connector(record: EngineRecord) -> EngineConnector:
    return read_engine(record.connector, f"{record.name}.yaml", frozenset(record.values))


def _out(record: EngineRecord, days: Sequence[EngineDay]) -> EngineOut:
    described = _connector(record)
    return EngineOut(
        name=record.name,
        does=described.does,
        connector=record.connector,
        values=record.values,
        languages=list(described.languages),
        secrets=sorted(described.secrets()),
        currency=described.price.currency,
        daily_budget=described.limits.daily_budget,
        changed_at=record.changed_at,
        last_error=record.last_error,
        last_error_at=record.last_error_at,
        paused_until=_still(record.paused_until),
        days=[
            EngineDayOut(
                day=each.day, asked=each.asked, failed=each.failed,
                seconds=round(each.seconds, 3), cost=round(each.cost, 6),
            )
            for each in days
            if each.engine == record.name
        ],
    )  # fmt: skip


def _still(until: datetime | None) -> datetime | None:
    """Until when an engine is paused, where it still is."""
    return until if until is not None and until > datetime.now(UTC) else None


async def _listed(service: Service, name: str = "") -> list[EngineOut]:
    async with service.database.reading() as session:
        wanted = select(EngineRecord).order_by(EngineRecord.name)
        if name:
            wanted = wanted.where(EngineRecord.name == name)
        rows = (await session.execute(wanted)).scalars().all()
        since = datetime.now(UTC).date() - timedelta(days=DAYS - 1)
        days = await days_of(session, [row.name for row in rows], since)
    return [_out(row, days) for row in rows]


async def _one(service: Service, name: str) -> EngineOut:
    found = await _listed(service, name)
    if not found:
        raise NotFound(f"there is no engine {name}")
    return found[0]


@router.get("")
async def list_engines(_: MayBuild, service: TheService) -> list[EngineOut]:
    """List all connected engines with their last seven days."""
    return await _listed(service)


@router.get("/{name}")
async def get_engine(name: EngineName, _: MayBuild, service: TheService) -> EngineOut:
    """Get an engine with its last seven days."""
    return await _one(service, name)


@router.put("/{name}")
async def put_engine(
    name: EngineName, given: EngineIn, _: MayAdmin, service: TheService
) -> EngineOut:
    """Connect an engine, or change how it is asked. Turns that are under way finish with what they
    began with."""
    described = read_engine(given.connector, f"{name}.yaml", frozenset(given.values))
    if described.engine != name:
        raise Conflict(f"the file describes the engine {described.engine!r}, not {name!r}")
    if name == BUILT_IN:
        raise Conflict(f"{BUILT_IN} is the name of our own engines", remedy="choose another name")
    fields = {
        "does": described.does, "connector": given.connector, "values": given.values,
        "last_error": "", "last_error_at": None,
    }  # fmt: skip
    stored = insert(EngineRecord).values(name=name, **fields)
    async with service.database.writing() as session:
        await session.execute(
            stored.on_conflict_do_update(
                index_elements=[EngineRecord.name], set_={**fields, "changed_at": func.now()}
            )
        )
    return await _one(service, name)


@router.delete("/{name}", status_code=204)
async def delete_engine(name: EngineName, _: MayAdmin, service: TheService) -> Response:
    """Disconnect an engine. Assistants that name it go on with the next one of theirs."""
    async with service.database.writing() as session:
        gone = delete(EngineRecord).where(EngineRecord.name == name).returning(EngineRecord.name)
        if (await session.execute(gone)).scalar_one_or_none() is None:
            raise NotFound(f"there is no engine {name}")
    return Response(status_code=204)


@router.post("/{name}/trials")
async def try_engine(
    name: EngineName, given: EngineTrialIn, _: MayAdmin, service: TheService
) -> EngineTrialOut:
    """Ask an engine once, outside of any turn: what it makes of a text or of sound, and each
    exchange. What it costs there is not counted here. `built-in` are our own recognizer, for sound,
    and our own voice, for text."""
    asking, begun = Asking(), time.monotonic()
    found: JsonObject = {"text": "", "sound": ""}
    why = ""
    if name == BUILT_IN:
        try:
            found |= await _ours(service, given)
        except FondEchoError as error:
            why = str(error)
    else:
        engine = await _connected(service, name)
        begun = time.monotonic()
        try:
            found |= await _tried(service, engine, given, asking)
        except FondEchoError as error:
            why = str(error)
    asked = EngineAsked(
        engine=name, outcome="failed" if why else "done", why=why, cost=asking.cost,
        seconds=round(time.monotonic() - begun, 3),
        exchanges=[vars(each) for each in asking.exchanges],
    )  # fmt: skip
    return EngineTrialOut(**found, asked=asked)


async def _connected(service: Service, name: str) -> DescribedEngine:
    async with service.database.reading() as session:
        record = await session.get(EngineRecord, name)
    if record is None:
        raise NotFound(f"there is no engine {name}")
    return service.installation.connected.make(
        record.connector, f"{name}.yaml", record.values, await service.vault()
    )


async def _ours(service: Service, given: EngineTrialIn) -> JsonObject:
    """What our own recognizer hears, or our own voice says."""
    if given.sound:
        decoded = await service.decoder.decode(given.bytes_of_sound)
        clip = at_rate(decoded.clip, RATE)
        heard = await service.recognizer.transcribe(
            clip, Expected(), language=given.language, long=False
        )
        return {"text": heard.written}
    if not given.text:
        raise Conflict("our own engines hear and speak", remedy="give sound, or text")
    speaks = service.synthesizer.speak(given.text, VOICE, seed=0, language=given.language)
    return await _speech(given.text, speaks)


async def _speech(text: str, parts: AsyncIterator[SpokenSound]) -> JsonObject:
    """What is spoken, as it comes."""
    begun, first, clips = time.monotonic(), 0.0, []
    async for part in parts:
        first = first or time.monotonic() - begun
        clips.append(part.clip)
    sound = base64.b64encode(encode(join(clips), "ogg")).decode()
    return {"text": text, "sound": sound, "first_seconds": round(first, 3)}


async def _tried(
    service: Service, engine: DescribedEngine, given: EngineTrialIn, asking: Asking
) -> JsonObject:
    """Words, and sound or a picture as base64."""
    does = engine.connector.does
    if does == "transcribe":
        if not given.sound:
            raise Conflict("this engine hears", remedy="give sound: a file as base64")
        decoded = await service.decoder.decode(given.bytes_of_sound)
        heard = await recognizer_of(engine, asking).transcribe(
            decoded.clip, Expected(), language=given.language, long=False
        )
        return {"text": heard.written}
    if not given.text:
        raise Conflict("this engine takes words", remedy="give text")
    if does == "speak":
        speaks = engine.speak(given.text, "default", language=given.language, asking=asking)
        return await _speech(given.text, speaks)
    if does == "draw":
        picture = await engine.draw(given.text, given.language, asking)
        data = base64.b64encode(picture.data).decode()
        return {"text": given.text, "picture": data, "picture_type": picture.media_type}
    if does == "summarize":
        return {"text": await engine.summarize(
            given.text, given.language, given.sentences, asking
        )}  # fmt: skip
    if does == "translate":
        if not given.to:
            raise Conflict("this engine translates", remedy="give to: a language")
        return {"text": await engine.translate(given.text, given.language, given.to, asking)}
    if does == "review":
        review = await engine.review(
            given.brief or given.text,
            given.text,
            [],
            AnswerVerdict(kind="answers"),
            given.language,
            asking,
        )
        return {"text": f"{review.kind}: {review.reason}" if review.reason else review.kind}
    found = await engine.answer(
        FreeQuestion(given.text, given.brief, given.language), asking=asking
    )
    return {"text": found.text}
