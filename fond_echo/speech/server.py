"""The speech process: an internal HTTP service in front of the workers.

Not for the outside: it takes the installation's own token only, and listens where the settings
say, on loopback unless other machines use it.
"""

from __future__ import annotations

import base64
import hmac
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import replace

import numpy as np
from fastapi import Depends, FastAPI, HTTPException, Request, WebSocket
from fastapi.responses import JSONResponse, StreamingResponse

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import OUR_OWN, decode
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.prosody import Prosody
from fond_echo.core.recognition.pieces import MAX_PIECE
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.synthesis.synthesizer import SpokenPart
from fond_echo.speech.asks import UNKNOWN_STATUS, HearAsk, PrepareAsk, SayAsk, error_of
from fond_echo.speech.errors import ExpectedUnknown, UnitTooLong
from fond_echo.speech.expectations import Known
from fond_echo.speech.heard import as_heard
from fond_echo.speech.jobs import Hear, Prepare, Say
from fond_echo.speech.listening import Listeners
from fond_echo.speech.pool import SpeechPool
from fond_echo.speech.priority import Priority
from fond_echo.speech.wire import MEDIA_TYPE, frame, one_frame

MAX_UNIT = MAX_PIECE + 1.0
NO_SOUND = Clip(np.zeros(0, np.float32), RATE)


PARTS = 4
"""Phrases spoken in one unit of work."""


def create_app(pool: SpeechPool, token: str) -> FastAPI:
    """The service over a pool, which it starts and stops."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        await pool.start()
        yield
        await pool.stop()

    async def ours(request: Request) -> None:
        given = request.headers.get("authorization", "")
        if not hmac.compare_digest(given.encode(), f"Bearer {token}".encode()):
            raise HTTPException(401)

    app = FastAPI(lifespan=lifespan, openapi_url=None)

    @app.exception_handler(ExpectedUnknown)
    async def _unknown(_: Request, error: Exception) -> JSONResponse:
        return JSONResponse({"what": str(error)}, status_code=UNKNOWN_STATUS)

    known = Known()

    @app.exception_handler(FondEchoError)
    async def _failed(_: Request, error: Exception) -> JSONResponse:
        assert isinstance(error, FondEchoError)
        return JSONResponse(error_of(error), status_code=422)

    @app.get("/health")
    async def health() -> dict[str, int]:
        return {"waiting": pool.waiting}

    @app.post("/hear", dependencies=[Depends(ours)])
    async def hear(request: Request) -> JSONResponse:
        """Transcribe a unit: a frame with at most 30 s of sound."""
        facts, clip = one_frame(await request.body())
        ask = HearAsk.model_validate(facts)
        if clip.seconds > MAX_UNIT:
            raise UnitTooLong(f"a unit of work has {clip.seconds:.0f} s")
        expected = known.of(ask.digest, ask.whole.expected if ask.whole else None)
        job = Hear(clip.samples, clip.rate, ask.digest, ask.language)
        try:
            found = await pool.run(job, ask.priority)
        except ExpectedUnknown:
            found = await pool.run(replace(job, expected=expected), ask.priority)
        return JSONResponse(as_heard(found, ask.language).model_dump())

    @app.post("/prepare", dependencies=[Depends(ours)])
    async def prepare(ask: PrepareAsk) -> None:
        """Build what will be expected in every worker, one after another: the others go on."""
        expected = ask.whole.expected
        known.of(ask.digest, expected)
        for worker in range(pool.workers):
            job = Prepare(ask.digest, ask.language, expected)
            await pool.run(job, Priority.LONG_FILE, worker=worker)

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
        # The first part goes out by itself: somebody waits for it.
        first, count = await _say(pool, ask, (0, 1))

        async def frames() -> AsyncIterator[bytes]:
            for begin in (0, *range(1, count, PARTS)):
                try:
                    window = begin, begin + PARTS
                    parts = first if begin == 0 else (await _say(pool, ask, window))[0]
                except FondEchoError as error:
                    yield frame({"error": error_of(error)}, NO_SOUND)
                    return
                for part in parts:
                    words = [[mark.word, mark.start, mark.end] for mark in part.marks]
                    yield frame({"words": words, "places": part.places}, part.clip)

        return StreamingResponse(frames(), media_type=MEDIA_TYPE)

    return app


async def _say(
    pool: SpeechPool, ask: SayAsk, window: tuple[int, int]
) -> tuple[list[SpokenPart], int]:
    recordings = {
        name: decode(base64.b64decode(sound), OUR_OWN).clip
        for name, sound in ask.recordings.items()
    }
    job = Say(
        ask.text, ask.voice, ask.seed, tuple(ask.sounds), ask.language,
        Prosody(rate=ask.rate, pitch=ask.pitch, volume=ask.volume), recordings, window,
    )  # fmt: skip
    found: tuple[list[SpokenPart], int] = await pool.run(job, ask.priority)
    return found
