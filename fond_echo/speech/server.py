"""The speech process: an internal HTTP service in front of the workers.

Not for the outside: it takes the installation's own token only, and listens where the settings
say, on loopback unless other machines use it.
"""

from __future__ import annotations

import base64
import hmac
import json
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Annotated

from fastapi import Depends, FastAPI, File, Form, HTTPException, Request, UploadFile, WebSocket
from fastapi.responses import JSONResponse, StreamingResponse

from fond_echo.core.audio.activity import pieces
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import decode, encode
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.recogniser import LONGEST_PIECE, joined, shifted
from fond_echo.core.recognition.transcript import Transcript
from fond_echo.core.synthesis.synthesizer import SpokenPart
from fond_echo.speech.asks import HearAsk, SayAsk, fault_of
from fond_echo.speech.heard import as_heard
from fond_echo.speech.jobs import Hear, Say
from fond_echo.speech.listening import Listeners
from fond_echo.speech.pool import SpeechPool

SENTENCES = 600
"""Characters of text spoken in one unit of work."""


def create_app(pool: SpeechPool, token: str) -> FastAPI:
    """The service over a pool, which it starts and stops."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        await pool.start()
        yield
        await pool.stop()

    def ours(request: Request) -> None:
        given = request.headers.get("authorization", "")
        if not hmac.compare_digest(given.encode(), f"Bearer {token}".encode()):
            raise HTTPException(401)

    app = FastAPI(lifespan=lifespan, openapi_url=None)

    @app.exception_handler(FondEchoError)
    async def _failed(_: Request, error: Exception) -> JSONResponse:
        assert isinstance(error, FondEchoError)
        return JSONResponse(fault_of(error), status_code=422)

    @app.get("/health")
    async def health() -> dict[str, int]:
        return {"waiting": pool.waiting}

    @app.post("/hear", dependencies=[Depends(ours)])
    async def hear(
        ask: Annotated[str, Form()], sound: Annotated[UploadFile, File()]
    ) -> JSONResponse:
        wanted = HearAsk.model_validate_json(ask)
        clip = decode(await sound.read()).clip
        transcript = await transcribe(pool, clip, wanted)
        return JSONResponse(as_heard(transcript).model_dump())

    listeners = Listeners(pool)

    @app.websocket("/listen")
    async def listen(socket: WebSocket) -> None:
        given = socket.headers.get("authorization", "")
        if not hmac.compare_digest(given.encode(), f"Bearer {token}".encode()):
            await socket.close(4401)
            return
        await listeners.serve(socket)

    @app.post("/say", dependencies=[Depends(ours)])
    async def say(ask: SayAsk) -> StreamingResponse:
        units = units_of(ask.text)
        first = await _say(pool, units[0], ask)

        async def lines() -> AsyncIterator[str]:
            for number, unit in enumerate(units):
                try:
                    parts = first if number == 0 else await _say(pool, unit, ask)
                except FondEchoError as error:
                    yield json.dumps(fault_of(error)) + "\n"
                    return
                for part in parts:
                    yield _line(part)

        return StreamingResponse(lines(), media_type="application/x-ndjson")

    return app


async def transcribe(pool: SpeechPool, clip: Clip, ask: HearAsk) -> Transcript:
    """A clip of any length, in units of at most 30 s."""
    found: list[Transcript] = []
    for span in pieces(clip, LONGEST_PIECE):
        part = clip.part(span.start, span.end)
        job = Hear(part.samples, part.rate, ask.expected, ask.language)
        found.append(shifted(await pool.run(job, ask.priority), span.start))
    return joined([each for each in found if each.words] or found[:1])


def units_of(text: str) -> list[str]:
    """A text cut at sentence ends into units of work; one unit at least."""
    units: list[str] = [""]
    for sentence in text.replace("\n", " \n").split(". "):
        joined_up = f"{units[-1]}. {sentence}" if units[-1] else sentence
        if len(joined_up) > SENTENCES and units[-1]:
            units[-1] += "."
            units.append(sentence)
        else:
            units[-1] = joined_up
    return units


async def _say(pool: SpeechPool, text: str, ask: SayAsk) -> list[SpokenPart]:
    parts: list[SpokenPart] = await pool.run(
        Say(text, ask.voice, ask.seed, tuple(ask.sounds)), ask.priority
    )
    return parts


def _line(part: SpokenPart) -> str:
    sound = base64.b64encode(encode(part.clip, "flac")).decode()
    text = " ".join(mark.word for mark in part.marks)
    return json.dumps({"text": text, "flac": sound}) + "\n"
