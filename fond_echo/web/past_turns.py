"""What an assistant's live turns gave, the latest first."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from typing import Any

from sqlalchemy import ColumnElement, select

from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.digest import digest
from fond_echo.store.database import Database
from fond_echo.store.records import Assistant, Revision, Run, Stage, Turn
from fond_echo.turns.turn import assistant_of
from fond_echo.web.errors import NotFound


async def results_of_stage(
    database: Database, assistant: str, stage: str, columns: Sequence[Any],
    *conditions: ColumnElement[bool], last: int,
) -> list[Any]:  # fmt: skip
    """Columns of turns and of one of their stages that was done, but for what was erased and what
    testers said to a draft.

    Args:
        last: so many at most.
    """
    wanted = (
        select(Turn.id, *columns)
        .join(Run, Run.id == Turn.run_id)
        .join(Revision, Revision.digest == Run.revision)
        .join(Stage, Stage.run_id == Turn.run_id)
        .where(
            Revision.assistant == assistant, Turn.erased_at.is_(None), Stage.erased_at.is_(None),
            Turn.draft.is_(False),
            Stage.name == stage, Stage.outcome == "done", *conditions,
        )
        .order_by(Turn.id.desc())
        .limit(last)
    )  # fmt: skip
    async with database.reading() as session:
        return list((await session.execute(wanted)).all())


async def assistant_now(database: Database, name: str) -> AssistantFile:
    """What is live of an assistant, or else its draft. Raises NotFound."""
    async with database.reading() as session:
        if (record := await session.get(Assistant, name)) is None:
            raise NotFound(f"there is no assistant {name!r}")
        files = (await session.get_one(Revision, record.live or record.draft)).files
    return await asyncio.to_thread(assistant_of, digest(files), files)
