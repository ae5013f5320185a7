"""Gannet over WebSockets: it hears while somebody speaks, and thinks aloud."""

from __future__ import annotations

import asyncio
import json
import random
import re
import zlib
from collections.abc import Callable

import numpy as np
from fastapi import FastAPI, WebSocket, WebSocketDisconnect

from fond_echo.contract.base import JsonObject
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.recognition.hearing import Hearing, Partial, Utterance
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.standins.providers import sound

UNKNOWN, UNREADABLE = 4401, 4400
END_SECONDS = 30.0
"""Silence does not end what it hears: whoever sends it says when it is over."""

Think = Callable[[JsonObject], JsonObject]


class Ear:
    """Hears one sound as it comes.

    Args:
        wrong: share of the words that it mishears on purpose.
    """

    def __init__(self, given: JsonObject, wrong: float) -> None:
        self._rate = int(given.get("rate") or RATE)
        hints = tuple(str(each) for each in given.get("hints") or ())
        self._hearing = Hearing(
            sound.recognizer_of_ours(), Expected(hints=hints), end_seconds=END_SECONDS
        )
        self._wrong, self._sure = wrong, 1.0

    def feed(self, data: bytes) -> list[JsonObject]:
        """16 bits, little-endian."""
        samples = np.frombuffer(data[: len(data) // 2 * 2], "<i2").astype(np.float32) / 32_768
        clip = at_rate(Clip(samples.astype(np.float32), self._rate), RATE)
        return [self._said(each) for each in self._hearing.feed(clip.samples)]

    def finish(self) -> list[JsonObject]:
        found = [self._said(each) for each in self._hearing.finish()]
        return [*found, {"stage": "finished", "sure": round(self._sure, 3)}]

    def _said(self, found: Partial | Utterance) -> JsonObject:
        if isinstance(found, Partial):
            return {"sofar": found.text}
        transcript = found.transcript
        if not transcript.words:
            return {"phrase": ""}
        self._sure = min(self._sure, transcript.confidence)
        spoken = transcript.spoken
        chance = random.Random(zlib.crc32(spoken.encode()))
        words = [
            sound.LIKE.get(word, word) if chance.random() < self._wrong else word
            for word in spoken.split()
        ]
        return {"phrase": " ".join(words) if self._wrong else transcript.written}


def add(app: FastAPI, known: Callable[[str], bool], wrong: float, think: Think, pause: float,
        asked: list[str]) -> None:  # fmt: skip
    """Its sockets.

    Args:
        known: whether a header says the word.
        pause: seconds that it thinks about each word.
        asked: where it is written down what was asked.
    """

    async def first(socket: WebSocket, path: str) -> JsonObject | None:
        if not known(socket.headers.get("authorization", "")):
            await socket.close(UNKNOWN)
            return None
        await socket.accept()
        asked.append(path)
        given = json.loads(await socket.receive_text())
        return given if isinstance(given, dict) else {}

    @app.websocket("/hearing/live")
    async def hearing(socket: WebSocket) -> None:
        try:
            if (given := await first(socket, "hearing/live")) is None:
                return
            ear = await asyncio.to_thread(Ear, given, wrong)
            over = False
            while not over:
                message = await socket.receive()
                if message["type"] == "websocket.disconnect":
                    return
                over = message.get("bytes") is None
                work = asyncio.to_thread(ear.finish) if over else (
                    asyncio.to_thread(ear.feed, message["bytes"])
                )  # fmt: skip
                for each in await work:
                    await socket.send_json(each)
            await socket.close()
        except ValueError:
            await socket.close(UNREADABLE)
        except WebSocketDisconnect:
            return

    @app.websocket("/thoughts/talk")
    async def talk(socket: WebSocket) -> None:
        try:
            if (given := await first(socket, "thoughts/talk")) is None:
                return
            thought = think(given)
            for word in re.findall(r"\S+\s*", str(thought.pop("says", ""))):
                await asyncio.sleep(pause)
                await socket.send_json({"more": word})
            await socket.send_json({"thought": thought})
            await socket.send_text("over")
            await socket.close()
        except ValueError:
            await socket.close(UNREADABLE)
        except WebSocketDisconnect:
            return
