"""Sounds that go on, in the speech process: a WebSocket each, kept to one worker from its beginning
to its end.

First comes what is expected, as JSON; then samples (16 kHz, 16 bits, little-endian) in messages of
any length, and `{"end": true}`. Back come lists of what was found, as JSON.
"""

from __future__ import annotations

import contextlib
import json
from collections import Counter

import numpy as np
from fastapi import WebSocket, WebSocketDisconnect
from pydantic import ValidationError

from fond_echo.contract.base import JsonObject, new_id
from fond_echo.core.audio.clip import Samples
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.hearing import Partial, Utterance
from fond_echo.core.recognition.symbols import RATE
from fond_echo.speech.asks import ListenAsk, error_of
from fond_echo.speech.expectations import ExpectedText
from fond_echo.speech.heard import as_heard
from fond_echo.speech.jobs import Listen
from fond_echo.speech.pool import SpeechPool

MAX_MESSAGE = 30 * RATE * 2
UNREADABLE = 4400


class Listeners:
    """Gives each sound to the worker that has the fewest."""

    def __init__(self, pool: SpeechPool) -> None:
        self._pool = pool
        self._sounds: Counter[int] = Counter()

    async def serve(self, socket: WebSocket) -> None:
        """One sound, until it is over or whoever sends it has gone."""
        await socket.accept()
        try:
            ask = ListenAsk.model_validate_json(await socket.receive_text())
        except (ValidationError, KeyError, WebSocketDisconnect):
            with contextlib.suppress(RuntimeError, WebSocketDisconnect):
                await socket.close(UNREADABLE, "the first message is not what is expected, as JSON")
            return
        worker = min(range(self._pool.workers), key=lambda number: self._sounds[number])
        self._sounds[worker] += 1
        one = _One(self._pool, worker, ask)
        try:
            await self._fed(socket, one)
        finally:
            self._sounds[worker] -= 1
            if one.begun and not one.over:
                with contextlib.suppress(FondEchoError):
                    await one.feed(_NONE, over=True)
        with contextlib.suppress(RuntimeError, WebSocketDisconnect):
            await socket.close()

    async def _fed(self, socket: WebSocket, one: _One) -> None:
        while not one.over:
            reported = await socket.receive()
            if reported["type"] == "websocket.disconnect":
                return
            data = reported.get("bytes")
            over = data is None
            samples = _NONE if data is None else _samples(data[:MAX_MESSAGE])
            try:
                found = await one.feed(samples, over=over)
            except FondEchoError as error:
                await socket.send_json({"error": error_of(error)})
                return
            if found or over:
                await socket.send_json({"found": found, "end": over})


class _One:
    def __init__(self, pool: SpeechPool, worker: int, ask: ListenAsk) -> None:
        self._pool, self._worker, self._ask = pool, worker, ask
        self._name = new_id()
        self.begun = self.over = False

    async def feed(self, samples: Samples, *, over: bool) -> list[JsonObject]:
        whole = self._ask.whole or ExpectedText()
        job = Listen(
            self._name, samples, self._ask.language, self._ask.end_seconds,
            None if self.begun else whole.expected, over,
        )  # fmt: skip
        self.begun, self.over = True, over
        found = await self._pool.run(job, self._ask.priority, worker=self._worker)
        return [_reported(each, self._ask.language) for each in found]


def _reported(found: Partial | Utterance, language: str) -> JsonObject:
    if isinstance(found, Partial):
        return {"partial": found.text}
    heard = as_heard(found.transcript, language)
    return {"heard": json.loads(heard.model_dump_json()), "truncated": found.truncated}


def _samples(data: bytes) -> Samples:
    whole = np.frombuffer(data[: len(data) // 2 * 2], "<i2")
    return (whole.astype(np.float32) / np.float32(32_768)).astype(np.float32)


_NONE = np.zeros(0, np.float32)
