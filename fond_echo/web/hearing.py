"""The ear for programs: a file as a whole, or sound as it comes, over a WebSocket.

A program that sends sound as it comes says first, as JSON, what it expects; then it sends samples
(16 bits, little-endian, mono) in messages of any length, and `{"end": true}` at the end. It is
told the words so far, and each utterance when it has ended.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
from typing import Annotated

import numpy as np
import soxr
from fastapi import Query, Request, WebSocket, WebSocketDisconnect
from pydantic import ValidationError
from websockets.asyncio.client import ClientConnection
from websockets.exceptions import ConnectionClosed

from fond_echo.contract.base import JsonObject
from fond_echo.contract.speech import ListenIn
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.decoding import LIMITS
from fond_echo.store.records import Assistant, Revision
from fond_echo.turns.expected import understood_by
from fond_echo.turns.turn import assistant_of
from fond_echo.web.access import MayOperate, of_socket
from fond_echo.web.bodies import CheckedRouter, body_of
from fond_echo.web.errors import NotFound
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/speech", tags=["speech"])

LONG_SECONDS = 60.0
NOT_SIGNED_IN, UNREADABLE = 4401, 4400


@router.post("/transcripts")
async def transcribe_sound(
    request: Request, requested: Annotated[ListenIn, Query()], _: MayOperate, service: TheService
) -> Heard:
    """Transcribe a sound file, which is the body: any kind that voice notes may have."""
    language_of(requested.language)
    expected = await _expected(service, requested)
    decoded = await service.decoder.decode(await body_of(request, LIMITS.size))
    clip = await asyncio.to_thread(at_rate, decoded.clip, RATE)
    long = clip.seconds > LONG_SECONDS
    return await service.recognizer.transcribe(
        clip, expected, language=requested.language, long=long
    )


async def _expected(service: Service, requested: ListenIn) -> Expected:
    phrases, names, hints = map(tuple, (requested.phrases, requested.names, requested.hints))
    if requested.assistant is None:
        return Expected(phrases, names, hints=hints, only=requested.only)
    async with service.database.reading() as session:
        record = await session.get(Assistant, requested.assistant)
        digest = record and (record.live or record.draft)
        if not digest:
            raise NotFound(f"there is no assistant {requested.assistant!r}")
        files = (await session.get_one(Revision, digest)).files
    assistant = await asyncio.to_thread(assistant_of, digest, files)
    understood = await asyncio.to_thread(understood_by, digest, assistant)
    return Expected(
        (*understood.phrases, *phrases), names, None if phrases else understood.network, hints,
        understood.sounds, requested.only,
    )  # fmt: skip


@router.websocket("/transcripts")
async def listen(socket: WebSocket) -> None:
    """What is said in sound that goes on."""
    service: Service = socket.app.state.service
    await socket.accept()
    if not await of_socket(socket, service, "operate"):
        await socket.close(NOT_SIGNED_IN, "send a key with the scope operate")
        return
    with contextlib.suppress(WebSocketDisconnect, RuntimeError):
        try:
            requested = ListenIn.model_validate_json(await socket.receive_text())
            language_of(requested.language)
            expected = await _expected(service, requested)
            async with service.live_recognizer.listen(
                expected, language=requested.language, end_seconds=requested.end_seconds
            ) as ear:
                await _between(socket, ear, requested.rate)
        except (ValidationError, KeyError) as error:
            what = error.errors()[0]["msg"] if isinstance(error, ValidationError) else "bytes came"
            await socket.close(UNREADABLE, f"the first message: {what}"[:120])
        except FondEchoError as error:
            reported = {"code": error.code, "what": error.what, "remedy": error.remedy}
            await socket.send_json({"error": reported})
            await socket.close()


async def _between(socket: WebSocket, ear: ClientConnection, rate: int) -> None:
    """Hand samples one way and findings the other, until the sound is over or somebody goes."""
    telling = asyncio.create_task(_tell(socket, ear))
    feeding = asyncio.create_task(_feed(socket, ear, rate))
    try:
        await asyncio.wait({telling, feeding}, return_when=asyncio.FIRST_COMPLETED)
        if feeding.done() and not feeding.exception():
            await telling
    finally:
        for task in (telling, feeding):
            task.cancel()
        await asyncio.gather(telling, feeding, return_exceptions=True)
    await socket.close()


async def _feed(socket: WebSocket, ear: ClientConnection, rate: int) -> None:
    resampler = None
    if rate != RATE:
        resampler = soxr.ResampleStream(rate, RATE, 1, dtype="float32", quality="HQ")
    while True:
        reported = await socket.receive()
        if reported["type"] == "websocket.disconnect":
            raise WebSocketDisconnect
        data = reported.get("bytes")
        over = data is None
        samples = np.frombuffer((data or b"")[: len(data or b"") // 2 * 2], "<i2")
        if resampler is not None:
            floats = samples.astype(np.float32) / np.float32(32_768)
            made = resampler.resample_chunk(floats, last=over)
            samples = np.clip(np.round(made * 32_768), -32_768, 32_767).astype("<i2")
        if len(samples):
            await ear.send(samples.astype("<i2").tobytes())
        if over:
            await ear.send(json.dumps({"end": True}))
            return


async def _tell(socket: WebSocket, ear: ClientConnection) -> None:
    with contextlib.suppress(ConnectionClosed):
        async for message in ear:
            reported: JsonObject = json.loads(message)
            if "error" in reported:
                await socket.send_json(reported)
                return
            for found in reported["found"]:
                await socket.send_json(found)
            if reported["end"]:
                await socket.send_json({"end": True})
                return
