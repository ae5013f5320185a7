"""Making a revision live, where nothing speaks against it; and what happened before."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from typing import Any

from sqlalchemy import select

from fond_echo.contract.assistants import AssistantOut, PastOut, PublishIn
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.engine import read_engine
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.foresight import placeholders
from fond_echo.store.access_records import EngineRecord
from fond_echo.store.event_records import Event
from fond_echo.store.events import emit
from fond_echo.store.records import Assistant, Revision
from fond_echo.web.access import MayBuild, MayRead
from fond_echo.web.assistants import AssistantName, assistant_out
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.cases import run_cases
from fond_echo.web.errors import Conflict, NotFound
from fond_echo.web.replays import Onto, revision_of
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/assistants", tags=["assistants"])

MAX_TOLD = 5


@router.post("/{name}/publish")
async def publish_assistant(
    name: AssistantName, bearer: MayBuild, service: TheService, given: PublishIn | None = None
) -> AssistantOut:
    """Make the draft the live revision, or another one that was kept. It is refused while one of
    its cases fails, or while a place in it was not filled in, unless it is forced."""
    given = given or PublishIn()
    async with service.database.reading() as session:
        record = await session.get(Assistant, name)
        if record is None:
            raise NotFound(f"there is no assistant {name!r}")
        wanted = given.revision or record.draft
        if wanted is None:
            raise Conflict(f"{name} has no draft to publish")
        kept = await session.get(Revision, wanted)
        if kept is None or kept.assistant != name:
            raise NotFound(f"{name} has no revision {wanted!r}")
    against = await _against(service, name, wanted)
    if against and not given.force:
        more = f", and {len(against) - MAX_TOLD} more" if len(against) > MAX_TOLD else ""
        raise Conflict(
            f"{name} was not published: {'; '.join(against[:MAX_TOLD])}{more}",
            remedy="correct it, or force it: assistant publish --force",
        )
    async with service.database.writing() as session:
        record = await session.get_one(Assistant, name, with_for_update=True)
        if not given.revision and record.draft != wanted:
            raise Conflict(f"the draft of {name} was changed meanwhile", remedy="publish it again")
        if given.if_revision and record.live != given.if_revision:
            raise Conflict(
                f"live is {record.live} meanwhile, not {given.if_revision}",
                remedy="compare them: assistant diff; then publish onto that one",
            )
        record.live = wanted
        await emit(
            session, "assistant.published", name, revision=wanted, by=bearer.name, why=given.why,
            forced=against,
        )  # fmt: skip
        return assistant_out(record)


async def _against(service: Service, name: str, revision: str) -> list[str]:
    """What speaks against a revision, in words."""
    try:
        onto, files = await revision_of(service, name, revision, None)
    except InvalidFile as error:
        return [f"it does not check any more: {error.errors[0]}"]
    allowed = onto.assistant.allowed_placeholders
    found = [
        f"{each.file}:{each.line}: {each.what}"
        for each in await asyncio.to_thread(placeholders, dict(files), allowed)
    ]
    found += await _wrong_parameters(service, onto.assistant.engines.parameters())
    found += await _files_lost(service, onto.assistant)
    for case in (await run_cases(service, files, Onto(revision, onto.assistant))).cases:
        if not case.passed:
            found.append(f"case {case.case}: {case.failures[0]}")
    return found


async def _wrong_parameters(
    service: Service, parameters: Mapping[str, Mapping[str, Any]]
) -> list[str]:
    """What is wrong with what an assistant sets of engines' parameters, as they are connected."""
    found = []
    async with service.database.reading() as session:
        for name, given in parameters.items():
            record = await session.get(EngineRecord, name)
            if record is None:
                found.append(f"{name} has parameters here, and is not connected")
                continue
            values = frozenset((*record.values, "base"))
            connector = read_engine(record.connector, f"{name}.yaml", values)
            found += [f"{name}: {wrong}" for wrong in connector.wrong_parameters(given)]
    return found


async def _files_lost(service: Service, assistant: AssistantFile) -> list[str]:
    """Engines that answer freely, and whose request has no place for the files that people send."""
    if assistant.accepts_files is None or not any(r.free for _, _, r in assistant.replies()):
        return []
    found = []
    async with service.database.reading() as session:
        for name in assistant.engines.of().get("answer", ()):
            if (record := await session.get(EngineRecord, name)) is None:
                continue
            values = frozenset((*record.values, "base"))
            connector = read_engine(record.connector, f"{name}.yaml", values)
            if not any("attachments" in step.asks_for() for step in connector.request):
                found.append(
                    f"accepts_files: {name} answers freely, and its request says nothing of "
                    "{{ attachments }}"
                )
    return found


@router.get("/{name}/history")
async def list_history(name: AssistantName, _: MayRead, service: TheService) -> list[PastOut]:
    """List when an assistant was drafted and published, by whom and why."""
    wanted = (
        select(Event)
        .where(Event.subject == name, Event.type.in_(("assistant.drafted", "assistant.published")))
        .order_by(Event.id.desc())
        .limit(200)
    )
    async with service.database.reading() as session:
        if await session.get(Assistant, name) is None:
            raise NotFound(f"there is no assistant {name!r}")
        events = (await session.execute(wanted)).scalars().all()
    return [
        PastOut(
            at=each.at, what=each.type.partition(".")[2],
            revision=str(each.data.get("revision", "")),
            by=str(each.data.get("by", "")), why=str(each.data.get("why", "")),
            forced=each.data.get("forced") or [],
        )
        for each in events
    ]  # fmt: skip
