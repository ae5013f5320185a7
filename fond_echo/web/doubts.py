"""Words that replies say and that do not come back when they are heard again."""

from __future__ import annotations

import asyncio
from typing import Annotated, Any

from fastapi import Query
from sqlalchemy import select

from fond_echo.contract.replay import DoubtOut
from fond_echo.core.language.pls import lexeme
from fond_echo.core.recognition.heard_back import Doubt, DoubtfulWord, doubtful_words
from fond_echo.documents.assistant import AssistantFile, digest
from fond_echo.speech.material import lexicon
from fond_echo.stages.turn import HeardBack, assistant_of
from fond_echo.store.records import Assistant, Revision, Run, Stage, Turn
from fond_echo.web.access import MayBuild
from fond_echo.web.assistants import AssistantName
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.problems import NotThere
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/assistants", tags=["replays"])


@router.get("/{name}/doubtful-words")
async def list_doubtful_words(
    name: AssistantName,
    _: MayBuild,
    service: TheService,
    last: Annotated[int, Query(ge=1, le=10_000, description="replies to look at")] = 1_000,
) -> list[DoubtOut]:
    """Words of replies that did not come back when they were heard again (`hear_back: true` in the
    assistant's file), each with an entry for its lexicon to begin with."""
    back: Any = Stage.output["heard_back"]
    wanted = (
        select(Turn.id, back)
        .join(Run, Run.id == Turn.run_id)
        .join(Revision, Revision.digest == Run.revision)
        .join(Stage, Stage.run_id == Turn.run_id)
        .where(
            Revision.assistant == name, Turn.erased_at.is_(None), Stage.erased_at.is_(None),
            Stage.name == "speak", back["said"].as_string().is_not(None),
        )
        .order_by(Turn.id.desc())
        .limit(last)
    )  # fmt: skip
    async with service.database.reading() as session:
        if (record := await session.get(Assistant, name)) is None:
            raise NotThere(f"there is no assistant {name!r}")
        rows = (await session.execute(wanted)).all()
        files = (await session.get_one(Revision, record.live or record.draft)).files
    assistant = await asyncio.to_thread(assistant_of, digest(files), files)
    texts = []
    for turn_id, output in rows:
        found = HeardBack.model_validate(output)
        missed = [Doubt(each.word, each.heard) for each in found.doubts]
        texts.append((turn_id, found.said.split(), missed))
    return await asyncio.to_thread(_told, doubtful_words(texts), assistant)


def _told(words: list[DoubtfulWord], assistant: AssistantFile) -> list[DoubtOut]:
    known = lexicon(assistant.language).with_sounds(assistant.pronounced)
    return [
        DoubtOut(
            word=each.word, said=each.said, missed=each.missed,
            heard=[heard for heard in each.heard if heard], turns=list(each.where[:50]),
            lexeme=lexeme(each.word, known.pronunciations(each.word)[0]),
        )
        for each in words
    ]  # fmt: skip
