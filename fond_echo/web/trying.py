"""Checking an assistant as it is written, and trying what it would answer."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from datetime import UTC, datetime

from pydantic import ValidationError
from sqlalchemy import select

from fond_echo.connectors.logic import LogicCaller
from fond_echo.contract.assistants import (
    AssistantFiles,
    Checked,
    FileErrorOut,
    LastCases,
    RevisionOut,
    Tried,
    TryIn,
    TryScore,
)
from fond_echo.contract.base import new_id
from fond_echo.contract.channel import Inbound, SoundHandle
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.digest import digest
from fond_echo.documents.errors import MAX_ERRORS, FileError
from fond_echo.replays.trying import Hearing, try_out
from fond_echo.stages.transcribe import speech_in
from fond_echo.store.records import Assistant, Revision
from fond_echo.turns.state import ConversationState
from fond_echo.turns.turn import assistant_of
from fond_echo.web.access import MayBuild, MayRead
from fond_echo.web.asked_for_real import asking
from fond_echo.web.asking import given_sound
from fond_echo.web.assistants import AssistantName
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import NotAState, NotFound
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/assistants", tags=["assistants"])


def _reported(errors: Sequence[FileError]) -> list[FileErrorOut]:
    return [FileErrorOut(**vars(each)) for each in errors[:MAX_ERRORS]]


@router.post("/check")
async def check_files(given: AssistantFiles, _: MayBuild, service: TheService) -> Checked:
    """Check an assistant's files without storing them: every error; if there are none, what will
    be trouble."""
    found = await service.check(given.files)
    return Checked(errors=_reported(found.errors), warnings=_reported(found.warnings))


@router.post("/{name}/try")
async def try_assistant(
    name: AssistantName, given: TryIn, _: MayBuild, service: TheService
) -> Tried:
    """Show what an assistant would answer, and why: each route's score. Nothing is stored or
    sent."""
    files = given.files or await _draft(service, name)
    if given.files:
        (await service.check(given.files)).raise_errors()
    assistant = await asyncio.to_thread(assistant_of, digest(files), files)
    said = Inbound(
        id=new_id(), conversation="try", contact="try", text=given.text,
        choice=given.choice or None, command=given.command,
        sound=SoundHandle(handle="try") if given.sound else None,
    )  # fmt: skip
    hear = await _hearing(service, given.sound, assistant.language) if given.sound else None
    vault = await service.vault()
    logic = LogicCaller(service.builder.client, vault)
    try:
        state = ConversationState.read(given.state)
    except ValidationError as error:
        where = ".".join(map(str, error.errors()[0]["loc"]))
        raise NotAState(
            f"state is not what a try gave: {error.errors()[0]['msg']}", where=f"state.{where}"
        ) from error
    now = datetime.now(UTC)
    async with asking(service, assistant, given.ask) as engines:
        found = await try_out(assistant, digest(files), said, state, now, logic, hear, engines)
    return Tried(
        heard=found.heard,
        route=found.routed.route,
        by=found.routed.by,
        outcome=found.routed.outcome,
        because=found.routed.because,
        scores=[TryScore(**each.model_dump()) for each in found.routed.scores],
        slots=found.routed.slots,
        replies=found.replies,
        spoken=found.spoken,
        not_run=found.not_run,
        asked=[*(engines.asked if engines else []), *found.called],
        state=found.state.stored(),
    )


async def _hearing(service: Service, sound: str, language: str) -> Hearing:
    """The recognizer, over a recording. Raises a SoundError where that cannot be used."""
    decoded = await service.decoder.decode(given_sound(sound))
    clip = at_rate(decoded.clip, RATE)

    async def hear(expected: Expected) -> Heard:
        heard = await service.recognizer.transcribe(clip, expected, language=language, long=False)
        return speech_in(heard)

    return hear


@router.get("/{name}/revisions")
async def list_revisions(name: AssistantName, _: MayRead, service: TheService) -> list[RevisionOut]:
    """List the revisions of an assistant, the latest first."""
    async with service.database.reading() as session:
        record = await session.get(Assistant, name)
        if record is None:
            raise NotFound(f"there is no assistant {name!r}")
        wanted = select(Revision.digest, Revision.created_at, Revision.cases).where(
            Revision.assistant == name
        )
        rows = await session.execute(wanted.order_by(Revision.created_at.desc()).limit(100))
        return [
            RevisionOut(
                digest=row.digest,
                created_at=row.created_at,
                draft=row.digest == record.draft,
                live=row.digest == record.live,
                cases=row.cases and LastCases.model_validate(row.cases),
            )
            for row in rows
        ]


@router.get("/{name}/revisions/{revision}")
async def get_revision(
    name: AssistantName, revision: str, _: MayRead, service: TheService
) -> AssistantFiles:
    """Get the files of a revision; `live` and `draft` stand for those."""
    async with service.database.reading() as session:
        record = await session.get(Assistant, name)
        named = {"live": record.live, "draft": record.draft} if record else {}
        found = await session.get(Revision, named.get(revision) or revision)
        if found is None or found.assistant != name:
            raise NotFound(f"{name} has no revision {revision!r}")
        return AssistantFiles(files=found.files)


async def _draft(service: Service, name: str) -> dict[str, str]:
    async with service.database.reading() as session:
        record = await session.get(Assistant, name)
        if record is None or record.draft is None:
            raise NotFound(f"there is no draft of an assistant {name!r}")
        files: dict[str, str] = (await session.get_one(Revision, record.draft)).files
        return files
