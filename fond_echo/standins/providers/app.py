"""Gannet over HTTP."""

from __future__ import annotations

import asyncio
import base64
import hmac
import json
import re
import secrets
from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import Body, Depends, FastAPI, Form, Header, HTTPException, Request, UploadFile
from fastapi.responses import Response, StreamingResponse

from fond_echo.contract.base import JsonObject
from fond_echo.core.audio.errors import SoundError
from fond_echo.core.dialogue.shaping import summary
from fond_echo.core.language.registry import language
from fond_echo.standins.faults import add_faults
from fond_echo.standins.providers import drawing, live, phrase_book, sound
from fond_echo.standins.providers.answering import Question, look, think

QUICK_WRONG = 0.4
"""Of the words that it can mishear on purpose, the quick tier does so with that share."""

WORK_SECONDS = 0.4
"""How long a task lasts at least."""


class Provider:
    """What is under way, and what was asked."""

    def __init__(self, word: str, wrong: float, delay: float, word_seconds: float) -> None:
        self.word, self.wrong, self.delay = word, wrong, delay
        self.word_seconds = word_seconds
        self.tasks: dict[str, asyncio.Task[JsonObject]] = {}
        self.asked: list[str] = []

    async def hear(
        self, data: bytes, hints: list[str], least: float, more_wrong: float = 0.0
    ) -> JsonObject:
        heard: JsonObject
        wrong = min(1.0, self.wrong + more_wrong)
        heard, _ = await asyncio.gather(
            asyncio.to_thread(sound.hear, data, hints, wrong), asyncio.sleep(least)
        )
        return heard


def question_of(given: JsonObject) -> Question:
    """What a caller asks."""
    return Question(
        words=str(given.get("words", "")), brief=str(given.get("brief", "")),
        passages=given.get("passages") or [], earlier=given.get("earlier") or [],
        facts=given.get("facts") or {}, functions=given.get("functions") or [],
        results=given.get("results") or [], most=int(given.get("most") or 2_000),
    )  # fmt: skip


def create_app(
    word: str, *, wrong: float = 0.0, delay: float = 0.0, word_seconds: float = 0.0
) -> FastAPI:
    """The provider.

    Args:
        word: what callers show.
        wrong: share of the words that it mishears on purpose.
        delay: seconds that hearing takes at least.
        word_seconds: how long it thinks about each word that it answers.
    """
    app, provider = FastAPI(title="Gannet"), Provider(word, wrong, delay, word_seconds)
    add_faults(app)

    def says_the_word(header: str) -> bool:
        return hmac.compare_digest(header.encode(), f"Bearer {provider.word}".encode())

    async def known(authorization: Annotated[str, Header()] = "") -> None:
        if not says_the_word(authorization):
            raise HTTPException(401, "who are you?")

    @app.get("/")
    async def about() -> JsonObject:
        return {"name": "Gannet", "asked": provider.asked[-50:]}

    @app.post("/hearing", dependencies=[Depends(known)])
    async def hearing(
        take: UploadFile, hints: Annotated[str, Form()] = "", tongue: Annotated[str, Form()] = "en",
        tier: Annotated[str, Form()] = "",
    ) -> JsonObject:  # fmt: skip
        provider.asked.append("hearing")
        listed = [each for each in hints.split("|") if each]
        data, more = await take.read(), QUICK_WRONG if tier == "quick" else 0.0
        try:
            found: JsonObject = await provider.hear(data, listed, provider.delay, more)
        except SoundError as error:
            raise HTTPException(415, error.what) from error
        return found

    @app.post("/tasks", dependencies=[Depends(known)], status_code=202)
    async def task(request: Request) -> JsonObject:
        provider.asked.append("tasks")
        data, name = await request.body(), secrets.token_hex(4)
        provider.tasks[name] = asyncio.create_task(provider.hear(data, [], WORK_SECONDS))
        return {"task": name}

    @app.get("/tasks/{name}", dependencies=[Depends(known)])
    async def outcome(name: str) -> JsonObject:
        if (found := provider.tasks.get(name)) is None:
            raise HTTPException(404, "no such task")
        if not found.done():
            return {"stage": "working"}
        if found.exception() is not None:
            return {"stage": "gave-up"}
        return {"stage": "finished", "outcome": found.result()}

    @app.post("/utterance", dependencies=[Depends(known)])
    async def utterance(given: Annotated[JsonObject, Body()]) -> Response:
        provider.asked.append("utterance")
        words, timbre = str(given["words"]), str(given.get("timbre", ""))
        data = await asyncio.to_thread(sound.say, words, timbre, "wav")
        return Response(data, media_type="audio/wav")

    @app.post("/utterance/packed", dependencies=[Depends(known)])
    async def packed(given: Annotated[JsonObject, Body()]) -> JsonObject:
        provider.asked.append("utterance/packed")
        words, timbre = str(given["words"]), str(given.get("timbre", ""))
        data = await asyncio.to_thread(sound.say, words, timbre, "mp3")
        return {"clip": {"as": "mp3", "bytes": base64.b64encode(data).decode()}}

    @app.post("/reflections", dependencies=[Depends(known)])
    @app.post("/thoughts", dependencies=[Depends(known)])
    async def thoughts(given: Annotated[JsonObject, Body()]) -> JsonObject:
        provider.asked.append("thoughts")
        thought = think(question_of(given))
        await asyncio.sleep(provider.word_seconds * len(str(thought.get("says", "")).split()))
        return {"thought": thought}

    @app.post("/thoughts/aloud", dependencies=[Depends(known)])
    async def aloud(given: Annotated[JsonObject, Body()]) -> StreamingResponse:
        provider.asked.append("thoughts/aloud")
        thought, lines = think(question_of(given)), given.get("as") == "lines"

        async def words() -> AsyncIterator[str]:
            said = re.findall(r"\S+\s*", str(thought.pop("says", "")))
            for one in [*({"more": word} for word in said), {"thought": thought}]:
                await asyncio.sleep(provider.word_seconds if "more" in one else 0)
                yield f"{json.dumps(one)}\n" if lines else f"data: {json.dumps(one)}\n\n"
            yield "over\n" if lines else "event: end\ndata: over\n\n"

        kind = "application/jsonl" if lines else "text/event-stream"
        return StreamingResponse(words(), media_type=kind)

    @app.post("/phrases", dependencies=[Depends(known)])
    async def phrases(given: Annotated[JsonObject, Body()]) -> JsonObject:
        provider.asked.append("phrases")
        found = phrase_book.put(str(given.get("words", "")), str(given.get("into", "")))
        if found is None:
            raise HTTPException(422, f"known: {', '.join(phrase_book.TONGUES)}")
        return {"put": found}

    @app.post("/looks", dependencies=[Depends(known)])
    async def looks(given: Annotated[JsonObject, Body()]) -> JsonObject:
        provider.asked.append("looks")
        return look(str(given.get("given", "")), str(given.get("first", "")))

    @app.post("/points", dependencies=[Depends(known)])
    async def points(given: Annotated[JsonObject, Body()]) -> JsonObject:
        provider.asked.append("points")
        words, many = str(given.get("words", "")), int(given.get("many") or 3)
        return {"short": summary(words, many, language("en"))}

    @app.post("/pictures", dependencies=[Depends(known)])
    async def pictures(given: Annotated[JsonObject, Body()]) -> JsonObject:
        provider.asked.append("pictures")
        data = await asyncio.to_thread(drawing.draw, str(given.get("scene", "")))
        return {"seen": f"data:image/png;base64,{base64.b64encode(data).decode()}"}

    live.add(app, says_the_word, wrong, lambda given: think(question_of(given)), word_seconds,
             provider.asked)  # fmt: skip
    return app
