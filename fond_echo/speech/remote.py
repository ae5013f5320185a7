"""Ear and voice in the speech process, reached over HTTP."""

from __future__ import annotations

import asyncio
import base64
import json
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager

import httpx
from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import WebSocketException

from fond_echo.contract.turn import Heard
from fond_echo.core.audio.activity import pieces
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import encode
from fond_echo.core.language.pls import Sounds
from fond_echo.core.language.prosody import PLAIN, Prosody
from fond_echo.core.progress import reach
from fond_echo.core.recognition.pieces import MAX_PIECE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.sound import NO_RECORDINGS, SpokenSound
from fond_echo.speech.asks import UNKNOWN_STATUS, HearAsk, ListenAsk, PrepareAsk
from fond_echo.speech.errors import SpeechFailed, SpeechUnreachable
from fond_echo.speech.expectations import ExpectedText, digest_of
from fond_echo.speech.heard import joined, later
from fond_echo.speech.priority import Priority
from fond_echo.speech.wire import MEDIA_TYPE, Frames, frame
from fond_echo.tls import trusted

HEAR_SECONDS = 600.0
SOUND = {"Content-Type": MEDIA_TYPE}


class RemoteSpeech:
    """Asks the speech process, with the priority of what it is for."""

    def __init__(self, url: str, token: str, priority: Priority = Priority.VOICE_NOTE) -> None:
        self._priority = priority
        self._url = url
        self._headers = {"Authorization": f"Bearer {token}"}
        self._client = httpx.AsyncClient(
            base_url=url,
            headers=self._headers,
            timeout=httpx.Timeout(HEAR_SECONDS, connect=5.0),
            trust_env=False,
            verify=trusted(),
        )

    async def close(self) -> None:
        await self._client.aclose()

    async def transcribe(
        self, clip: Clip, expected: Expected, *, language: str, long: bool
    ) -> Heard:
        """A clip of any length, cut into units of at most 30 s where it is quietest. Raises
        SpeechUnreachable or SpeechFailed."""
        priority = Priority.LONG_FILE if long else self._priority
        ask = HearAsk(digest=digest_of(expected), language=language, priority=priority)
        if clip.seconds <= MAX_PIECE:
            return await self._unit(ask, expected, clip)
        found: list[Heard] = []
        for span in await asyncio.to_thread(pieces, clip, MAX_PIECE):
            part = await self._unit(ask, expected, clip.part(span.start, span.end))
            found.append(later(part, span.start))
            reach(span.end, clip.seconds)
        return joined([each for each in found if each.words] or found[:1])

    async def prepare(self, expected: Expected, language: str) -> None:
        """Have what will be expected built before there is any sound. Raises SpeechUnreachable or
        SpeechFailed."""
        ask = PrepareAsk(
            digest=digest_of(expected), whole=ExpectedText.of(expected), language=language
        )
        try:
            response = await self._client.post("/prepare", json=ask.model_dump(mode="json"))
        except httpx.HTTPError as error:
            raise _unreachable(error) from error
        _check(response.status_code, response.content)

    async def _unit(self, ask: HearAsk, expected: Expected, clip: Clip) -> Heard:
        response = await self._heard(ask, clip)
        if response.status_code == UNKNOWN_STATUS:
            whole = ExpectedText.of(expected)
            response = await self._heard(ask.model_copy(update={"whole": whole}), clip)
        _check(response.status_code, response.content)
        return Heard.model_validate_json(response.content)

    async def _heard(self, ask: HearAsk, clip: Clip) -> httpx.Response:
        content = frame(ask.model_dump(mode="json"), clip)
        try:
            return await self._client.post("/hear", content=content, headers=SOUND)
        except httpx.HTTPError as error:
            raise _unreachable(error) from error

    @asynccontextmanager
    async def listen(
        self, expected: Expected, *, language: str, end_seconds: float
    ) -> AsyncIterator[ClientConnection]:
        """A connection for a sound that goes on (`fond_echo.speech.listening`). Raises
        SpeechUnreachable."""
        ask = ListenAsk(
            digest=digest_of(expected), whole=ExpectedText.of(expected), language=language,
            priority=self._priority, end_seconds=end_seconds,
        )  # fmt: skip
        url = f"{self._url.replace('http', 'ws', 1)}/listen"
        try:
            async with connect(url, additional_headers=self._headers, proxy=None) as socket:
                await socket.send(ask.model_dump_json())
                yield socket
        except (OSError, WebSocketException) as error:
            raise _unreachable(error) from error

    async def speak(
        self, text: str, voice: str, *, seed: int, sounds: Sounds = (), language: str = "en",
        prosody: Prosody = PLAIN, recordings: Mapping[str, Clip] = NO_RECORDINGS,
    ) -> AsyncIterator[SpokenSound]:  # fmt: skip
        """Raises SpeechUnreachable or SpeechFailed."""
        files = {
            name: base64.b64encode(encode(clip, "flac")).decode()
            for name, clip in recordings.items()
        }
        ask = {
            "text": text, "voice": voice, "seed": seed, "priority": self._priority,
            "sounds": sounds, "language": language, "rate": prosody.rate, "pitch": prosody.pitch,
            "volume": prosody.volume, "recordings": files,
        }  # fmt: skip
        try:
            async with self._client.stream("POST", "/say", json=ask) as response:
                if response.status_code != 200:
                    _check(response.status_code, await response.aread())
                frames = Frames()
                async for data in response.aiter_bytes():
                    for facts, clip in frames.feed(data):
                        if "error" in facts:
                            reported = facts["error"]
                            raise SpeechFailed(reported["what"], remedy=reported["remedy"])
                        words = tuple((w, begin, end) for w, begin, end in facts["words"])
                        text = " ".join(word for word, _, _ in words)
                        yield SpokenSound(clip, text, words, tuple(map(tuple, facts["places"])))
        except httpx.HTTPError as error:
            raise _unreachable(error) from error


def _unreachable(error: Exception) -> SpeechUnreachable:
    return SpeechUnreachable(
        f"the speech process does not answer: {error or type(error).__name__}",
        remedy="start it: fond-echo serve, or fond-echo speech",
    )


def _check(status: int, body: bytes) -> None:
    if status == 422:
        reported = json.loads(body)
        if "what" in reported:
            raise SpeechFailed(reported["what"], where=reported["where"], remedy=reported["remedy"])
    if status != 200:
        raise SpeechFailed(f"the speech process answered {status}")
