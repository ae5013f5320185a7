"""Words that replies say and that do not come back when they are heard again."""

from __future__ import annotations

import asyncio
from typing import Annotated, Any

from fastapi import Query

from fond_echo.contract.replay import MispronouncedOut
from fond_echo.core.language.pls import lexeme
from fond_echo.core.recognition.verification import Doubt, Mispronounced, mispronounced
from fond_echo.documents.assistant import AssistantFile
from fond_echo.speech.material import lexicon
from fond_echo.store.records import Stage
from fond_echo.turns.turn import SpeechVerification
from fond_echo.web.access import MayBuild
from fond_echo.web.assistants import AssistantName
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.past_turns import assistant_now, results_of_stage
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/assistants", tags=["replays"])


@router.get("/{name}/mispronounced")
async def list_mispronounced(
    name: AssistantName,
    _: MayBuild,
    service: TheService,
    last: Annotated[int, Query(ge=1, le=10_000, description="replies to look at")] = 1_000,
) -> list[MispronouncedOut]:
    """List words of replies that were not heard as they are written, where `verify_speech: true` in
    the assistant's file has replies heard again. Each comes with an entry for its lexicon to begin
    with."""
    back: Any = Stage.output["heard_as"]
    assistant = await assistant_now(service.database, name)
    rows = await results_of_stage(
        service.database, name, "speak", [back], back["said"].as_string().is_not(None), last=last
    )
    texts = []
    for turn_id, output in rows:
        found = SpeechVerification.model_validate(output)
        missed = [Doubt(each.word, each.heard) for each in found.doubts]
        texts.append((turn_id, found.said.split(), missed))
    return await asyncio.to_thread(_told, mispronounced(texts), assistant)


def _told(words: list[Mispronounced], assistant: AssistantFile) -> list[MispronouncedOut]:
    known = lexicon(assistant.language).with_sounds(assistant.pronounced)
    return [
        MispronouncedOut(
            word=each.word, said=each.said, missed=each.missed,
            heard=[heard for heard in each.heard if heard], turns=list(each.where[:50]),
            lexeme=lexeme(each.word, known.pronunciations(each.word)[0]),
        )
        for each in words
    ]  # fmt: skip
