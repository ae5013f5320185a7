"""Text made sound, and sound made a proper voice note, for programs that have no assistant."""

from __future__ import annotations

import asyncio
import base64
import json
import zlib
from collections.abc import AsyncIterator, Iterator
from contextlib import AsyncExitStack
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Annotated

import structlog
from fastapi import Query, Request, Response
from fastapi.responses import JSONResponse, StreamingResponse
from starlette.types import Receive, Scope, Send

from fond_echo.contract.clip import NewClip
from fond_echo.contract.renditions import (
    LINK_HOURS,
    ConversionOut,
    DeliverAs,
    FileFinding,
    GivenSound,
    LinkHours,
    RenditionIn,
    RenditionOut,
    TimedMark,
    TimedWord,
    VoiceOut,
)
from fond_echo.core.audio.activity import trimmed
from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.inspect import inspected
from fond_echo.core.audio.level import normalized
from fond_echo.core.audio.streaming import MEDIA_TYPES, whole, writer_of
from fond_echo.core.audio.waveform import heights
from fond_echo.core.language.pls import Sounds
from fond_echo.core.language.prosody import Prosody
from fond_echo.core.language.registry import DEFAULT
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.language.silent import silent_letters
from fond_echo.core.language.ssml import is_ssml, lexicons_in, plain_of, read_ssml, recordings_in
from fond_echo.core.synthesis.errors import UnknownVoice
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.core.synthesis.speaker import VOICES
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.media import bytes_of
from fond_echo.signed_links import link_to
from fond_echo.speech.decoding import LIMITS
from fond_echo.store.records import Assistant, Revision
from fond_echo.store.renditions import keep_sound, use
from fond_echo.turns.turn import assistant_of
from fond_echo.web.access import MayOperate, MayRead
from fond_echo.web.asking import one_more
from fond_echo.web.bodies import CheckedRouter, body_of
from fond_echo.web.errors import NotFound
from fond_echo.web.leaving import while_there
from fond_echo.web.service import Service, TheService

log = structlog.get_logger()
router = CheckedRouter(tags=["speech"])

VOICE = "whimbrel"
AT_ONCE = 40
BLOCK_SECONDS = 0.3
SOUND = {"content": {"audio/*": {"schema": {"type": "string", "format": "binary"}}}}


@dataclass(frozen=True)
class Prepared:
    """What is to be spoken, and how."""

    text: str
    voice: str
    language: str
    prosody: Prosody
    sounds: Sounds = ()
    recordings: dict[str, Clip] = field(default_factory=dict)
    warnings: tuple[str, ...] = ()

    @property
    def seed(self) -> int:
        return zlib.crc32(f"{self.voice}\n{self.text}".encode("utf-8", "replace"))

    def parts(self, service: Service) -> AsyncIterator[SpokenSound]:
        """The sound of it, part by part."""
        return service.synthesizer.speak(
            self.text, self.voice, seed=self.seed, sounds=self.sounds, language=self.language,
            prosody=self.prosody, recordings=self.recordings,
        )  # fmt: skip


@router.post(
    "/api/speech/renditions",
    response_model=RenditionOut,
    responses={200: {"description": "As asked for: JSON, or the sound itself.", **SOUND}},
)
async def create_rendition(
    given: RenditionIn, request: Request, bearer: MayOperate, service: TheService
) -> Response:
    """Synthesize text or SSML 1.1."""
    prepared = await _prepared(service, given)
    async with service.database.writing() as session:
        await use(session, bearer.key_id, characters=len(given.text))
    if given.deliver_as == "bytes":
        return await _streamed(service, prepared, given.format)
    async with one_more(service, "/renditions", AT_ONCE):
        rendered = await while_there(request, _rendered(service, prepared, given.format))
    sound = await _given(service, rendered.sound, given.deliver_as, bearer.key_id, given.link_hours)
    out = RenditionOut(
        **sound.model_dump(), voice=prepared.voice, words=rendered.words, marks=rendered.marks,
        warnings=list(prepared.warnings),
    )  # fmt: skip
    return JSONResponse(json.loads(out.model_dump_json()))


@router.get("/api/speech/voices")
async def list_voices(_: MayRead) -> list[VoiceOut]:
    """List the built-in voices."""
    return [VoiceOut(name=name, pitch=v.pitch, rate=v.rate) for name, v in VOICES.items()]


async def _prepared(service: Service, given: RenditionIn) -> Prepared:
    """Raises SsmlError, UnknownVoice, UnknownLanguage, NotFound: before anything is made."""
    assistant = await _assistant(service, given.assistant) if given.assistant else None
    code = given.language or (assistant.language if assistant else DEFAULT)
    language = language_of(code)
    voice = given.voice or (assistant.voice if assistant else VOICE)
    if voice not in VOICES:
        raise UnknownVoice(
            f"there is no voice {voice!r}", remedy=f"voices: {', '.join(sorted(VOICES))}"
        )
    recordings: dict[str, Clip] = {}
    warnings: list[str] = []
    plain = given.text
    if is_ssml(given.text):
        parts = await asyncio.to_thread(read_ssml, given.text)
        for name in lexicons_in(parts):
            if assistant is None or assistant.lexicon != name:
                warnings.append(f"there is no lexicon {name[:80]!r}: words are said as usual")
        for name in recordings_in(parts):
            kept = assistant.media(name) if assistant else None
            if kept is None:
                warnings.append(f"there is no sound {name[:80]!r}: the words in its place are said")
            elif name not in recordings:
                recordings[name] = (await service.decoder.decode(bytes_of(kept))).clip
        plain = await asyncio.to_thread(plain_of, given.text)
    silent = await asyncio.to_thread(silent_letters, plain, language)
    if silent:
        warnings.append(f"nothing can be said for the letters {silent}")
    how = given.prosody
    return Prepared(
        given.text, voice, code, Prosody(rate=how.rate, pitch=how.pitch, volume=how.volume),
        assistant.pronounced if assistant else (), recordings, tuple(warnings),
    )  # fmt: skip


async def _assistant(service: Service, name: str) -> AssistantFile:
    async with service.database.reading() as session:
        record = await session.get(Assistant, name)
        digest = record and (record.live or record.draft)
        if not digest:
            raise NotFound(f"there is no assistant {name!r}")
        files = (await session.get_one(Revision, digest)).files
    return await asyncio.to_thread(assistant_of, digest, files)


async def _streamed(service: Service, prepared: Prepared, format: str) -> Response:
    """The sound as it is made; what is wrong before the first part is an error as usual."""
    parts = prepared.parts(service)
    async with AsyncExitStack() as place:
        await place.enter_async_context(one_more(service, "/renditions", AT_ONCE))
        first = await anext(parts)
        held = place.pop_all()
    writer = writer_of(format, prepared.seed)

    async def sound() -> AsyncIterator[bytes]:
        for block in _blocks(first.clip):
            if data := await asyncio.to_thread(writer.write, block):
                yield data
        async for part in parts:
            for block in _blocks(part.clip):
                if data := await asyncio.to_thread(writer.write, block):
                    yield data
        yield await asyncio.to_thread(writer.finish)

    headers = {"X-Voice": prepared.voice, "Cache-Control": "no-store"}
    if prepared.warnings:
        text = "; ".join(prepared.warnings)
        headers["X-Warnings"] = text.encode("ascii", "backslashreplace").decode()
    return HoldingResponse(held, sound(), MEDIA_TYPES[format], headers)


class HoldingResponse(StreamingResponse):
    """A stream that holds a place until it is over, or nobody listens any more."""

    def __init__(
        self, held: AsyncExitStack, content: AsyncIterator[bytes], media_type: str,
        headers: dict[str, str],
    ) -> None:  # fmt: skip
        super().__init__(content, media_type=media_type, headers=headers)
        self._held = held

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        async with self._held:
            await super().__call__(scope, receive, send)


def _blocks(clip: Clip) -> Iterator[Clip]:
    """A clip in short pieces, so that the first is heard while the others are encoded."""
    size = int(BLOCK_SECONDS * clip.rate)
    for start in range(0, len(clip), size):
        yield Clip(clip.samples[start : start + size], clip.rate)


@dataclass(frozen=True)
class Rendered:
    """A text as a whole sound, with the times of its words and marks."""

    sound: NewClip
    words: list[TimedWord]
    marks: list[TimedMark]


async def _rendered(service: Service, prepared: Prepared, format: str) -> Rendered:
    key = (
        prepared.text,
        prepared.voice,
        prepared.language,
        prepared.prosody,
        prepared.sounds,
        format,
    )
    known: Rendered | None = None if prepared.recordings else service.rendered.get(key)
    if known is not None:
        return known
    clips: list[Clip] = []
    words: list[TimedWord] = []
    marks: list[TimedMark] = []
    clock = 0.0
    async for part in prepared.parts(service):
        words += [
            TimedWord(word=w, start=round(clock + a, 3), end=round(clock + b, 3))
            for w, a, b in part.words
        ]
        marks += [TimedMark(name=name, at=round(clock + at, 3)) for name, at in part.places]
        clips.append(part.clip)
        clock += part.clip.seconds
    made = Rendered(
        await asyncio.to_thread(_file, join(clips), format, prepared.seed), words, marks
    )
    if not prepared.recordings:
        service.rendered.keep(key, made)
    return made


def _file(clip: Clip, format: str, serial: int) -> NewClip:
    return NewClip(
        whole(clip, format, serial), MEDIA_TYPES[format], "rendered", round(clip.seconds, 3),
        clip.rate, tuple(heights(clip)),
    )  # fmt: skip


async def _given(
    service: Service, sound: NewClip, deliver_as: DeliverAs, key_id: str, hours: float
) -> GivenSound:
    """A sound in the way it was asked for."""
    out = GivenSound(
        media_type=sound.media_type, seconds=sound.seconds or 0.0, size=len(sound.data),
        waveform=list(sound.waveform),
    )  # fmt: skip
    if deliver_as == "link":
        async with service.database.writing() as session:
            until = datetime.fromtimestamp(datetime.now(UTC).timestamp() + 3_600 * hours, UTC)
            clip_id = await keep_sound(session, service.blobs, sound, key_id, until)
        link, ends = link_to(service.settings, clip_id, hours)
        expires_at = datetime.fromtimestamp(ends, UTC)
        return out.model_copy(update={"link": link, "expires_at": expires_at})
    text = base64.b64encode(sound.data).decode()
    if deliver_as == "data-uri":
        kind = sound.media_type.replace(" ", "")
        return out.model_copy(update={"data_uri": f"data:{kind};base64,{text}"})
    return out.model_copy(update={"base64": text})


@router.post(
    "/api/clips/conversions",
    response_model=ConversionOut,
    responses={200: {"description": "As asked for: JSON, or the sound itself.", **SOUND}},
    openapi_extra={
        "requestBody": {
            "content": {
                "application/octet-stream": {"schema": {"format": "binary", "type": "string"}}
            },
            "required": True,
        }
    },
)
async def convert_clip(
    request: Request,
    bearer: MayOperate,
    service: TheService,
    deliver_as: Annotated[DeliverAs, Query(description="how the voice note comes")] = "bytes",
    link_hours: LinkHours = LINK_HOURS,
    loudness: Annotated[float | None, Query(ge=-40, le=-8, description="LUFS")] = None,
    trim: Annotated[bool, Query(description="cut silence before and after")] = False,
) -> Response:
    """Convert a sound, which is the body, to a proper voice note."""
    data = await body_of(request, LIMITS.size)
    async with one_more(service, "/conversions", AT_ONCE):
        decoded = await service.decoder.decode(data)
        async with service.database.writing() as session:
            await use(session, bearer.key_id, seconds=decoded.clip.seconds)
        report = await asyncio.to_thread(inspected, data, decoded)

        def note() -> NewClip:
            clip = trimmed(decoded.clip)[0] if trim else decoded.clip
            clip = normalized(clip, loudness) if loudness is not None else clip
            return _file(clip, "ogg", zlib.crc32(data))

        sound = await asyncio.to_thread(note)
    if deliver_as == "bytes":
        return Response(sound.data, media_type=sound.media_type)
    given = await _given(service, sound, deliver_as, bearer.key_id, link_hours)
    out = ConversionOut(
        **given.model_dump(), container=report.container, codec=report.codec,
        channel_count=report.channel_count, rate=report.rate, loudness=report.loudness,
        findings=[FileFinding(what=f.what, remedy=f.remedy) for f in report.findings],
    )  # fmt: skip
    return JSONResponse(json.loads(out.model_dump_json()))
