"""Assistants and their revisions."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert

from fond_echo.contract.assistants import (
    AssistantFiles,
    AssistantOut,
    DraftIn,
    DraftOut,
    StarterIn,
)
from fond_echo.contract.base import Name
from fond_echo.documents.assistant import MAIN_FILE
from fond_echo.documents.digest import digest
from fond_echo.documents.errors import FileError, InvalidFile
from fond_echo.documents.guided import guided_files
from fond_echo.documents.starter import starter_files
from fond_echo.store.events import emit
from fond_echo.store.records import Assistant, Revision
from fond_echo.web.access import MayBuild, MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import Conflict, NotFound
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/assistants", tags=["assistants"])

AssistantName = Annotated[Name, Path()]


def assistant_out(record: Assistant) -> AssistantOut:
    return AssistantOut(
        name=record.name, draft=record.draft, live=record.live, changed_at=record.changed_at
    )


@router.get("")
async def list_assistants(_: MayRead, service: TheService) -> list[AssistantOut]:
    """List all assistants."""
    async with service.database.reading() as session:
        rows = (await session.execute(select(Assistant).order_by(Assistant.name))).scalars()
        return [assistant_out(row) for row in rows]


@router.get("/{name}/starter")
async def get_starter(name: AssistantName, _: MayBuild) -> AssistantFiles:
    """Get the files of a small working assistant to begin with; nothing is stored."""
    return AssistantFiles(files=starter_files(name))


@router.post("/{name}/starter")
async def make_starter(
    name: AssistantName, given: StarterIn, _: MayBuild, service: TheService
) -> AssistantFiles:
    """Make the files of a first assistant of what is said of it, and check them; nothing is
    stored."""
    files = guided_files(name, given)
    (await service.check(files)).raise_errors()
    return AssistantFiles(files=files)


@router.put("/{name}/draft")
async def put_draft(
    name: AssistantName, given: DraftIn, bearer: MayBuild, service: TheService
) -> AssistantOut:
    """Check an assistant's files and keep them as its draft."""
    found = await service.check(given.files)
    found.raise_errors()
    if found.assistant != name:
        what = f"the file is of the assistant {found.assistant!r}, not {name!r}"
        raise InvalidFile([FileError(MAIN_FILE, 1, 1, what)])
    revision = digest(given.files)
    async with service.database.writing() as session:
        stored = insert(Revision).values(digest=revision, assistant=name, files=given.files)
        await session.execute(stored.on_conflict_do_nothing())
        before = await session.get(Assistant, name, with_for_update=True)
        if (
            given.if_revision
            and before is not None
            and before.draft not in (given.if_revision, revision)
        ):
            raise Conflict(
                f"the draft of {name} is {before.draft} meanwhile, not {given.if_revision}",
                remedy="read it again, and put your changes into it",
            )
        kept = insert(Assistant).values(name=name, draft=revision)
        await session.execute(
            kept.on_conflict_do_update(
                index_elements=[Assistant.name],
                set_={"draft": revision, "changed_at": func.now()},
            )
        )
        await emit(session, "assistant.drafted", name, revision=revision, by=bearer.name)
        return assistant_out(await session.get_one(Assistant, name, populate_existing=True))


@router.get("/{name}/draft")
async def get_draft(name: AssistantName, _: MayRead, service: TheService) -> DraftOut:
    """Get the files of the draft."""
    async with service.database.reading() as session:
        record = await session.get(Assistant, name)
        if record is None or record.draft is None:
            raise NotFound(f"there is no draft of an assistant {name!r}")
        files = (await session.get_one(Revision, record.draft)).files
        return DraftOut(files=files, revision=record.draft)
