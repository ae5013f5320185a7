"""A world for turns in which nothing leaves the process."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator, Callable, Mapping
from datetime import datetime
from importlib import resources
from types import MappingProxyType
from typing import Any

from fond_echo.connectors.errors import LogicFailed
from fond_echo.contract.channel import ChannelSettings, Inbound, PleaseWait, SoundHandle
from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.reply import Reply
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import Decoded, decode
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.documents.digest import digest
from fond_echo.documents.services import LogicService
from fond_echo.driver.queued import QueuedDriver
from fond_echo.records.journal import Journal
from fond_echo.speech.heard import as_heard
from fond_echo.speech.material import recognizer, synthesizer
from fond_echo.store.clips import ClipStore
from fond_echo.store.database import Database
from fond_echo.store.inbound import take_in_once
from fond_echo.store.queue import queue_app
from fond_echo.store.records import Assistant, Channel, Revision
from fond_echo.turns.needs import Needs
from fond_echo.turns.ports import Abilities, Fetched, Outgoing, Sent
from tests.support.database import DatabaseTest

ASSISTANT = """\
assistant: test-desk
voice: tern
logic:
  timetable: {url: "http://127.0.0.1:1/logic", key: {secret: timetable-mark}}
routes:
  - route: next-sailing
    examples: [When is the next boat to Brannick?, When is the next boat to Pell?]
    command: next
    reply: {logic: timetable.next-sailing, safe: true}
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: "Four pounds, {{ contact.name }}.", choices: [Book a place]}
fallback:
  reply: {text: I know about boats and fares.}
"""


def unhurried(**fields: Any) -> ChannelSettings:
    """A channel's settings, without the words for a turn that takes long: on a slow machine any turn
    may."""
    return ChannelSettings(**{"please_wait": PleaseWait(after=0), **fields})


class MemoryChannel:
    """A channel that keeps what is sent, and fails when told to."""

    def __init__(self) -> None:
        self.abilities = Abilities(frozenset(("text", "voice")), 200)
        self.sounds: dict[str, bytes] = {}
        self.sent: list[Outgoing] = []
        self.indicated: list[str] = []
        self.read: list[str] = []
        self.on_fetch: Callable[[str], None] = lambda handle: None
        self.on_send: Callable[[Outgoing], None] = lambda outgoing: None

    async def fetch(self, handle: str, conversation: str, contact: str) -> Fetched:
        self.on_fetch(handle)
        return Fetched(self.sounds[handle], "application/octet-stream", [])

    async def send(self, outgoing: Outgoing) -> Sent:
        self.on_send(outgoing)
        self.sent.append(outgoing)
        return Sent(f"out-{len(self.sent)}", [])

    async def indicate(self, conversation: str, contact: str, kind: str) -> None:
        self.indicated.append(kind)

    async def mark_read(self, conversation: str, contact: str, message: str) -> None:
        self.read.append(message)


class LocalSpeech:
    """Ear and voice in this process."""

    async def transcribe(
        self, clip: Clip, expected: Expected, *, language: str, long: bool
    ) -> Heard:
        return as_heard(recognizer(language).transcribe(clip, expected), language)

    async def speak(
        self,
        text: str,
        voice: str,
        *,
        seed: int,
        sounds: Any = (),
        language: str = "en",
        **given: Any,
    ) -> AsyncIterator[SpokenSound]:
        for part in synthesizer(language).speak(text, voice, seed=seed, **given):
            words = tuple((mark.word, mark.start, mark.end) for mark in part.marks)
            yield SpokenSound(part.clip, " ".join(w for w, *_ in words), words, part.places)


class PlainDecoder:
    async def decode(self, data: bytes) -> Decoded:
        return decode(data)


class MemoryLogic:
    """Business logic that answers from a function."""

    def __init__(self) -> None:
        self.requested: list[LogicRequest] = []
        self.exchanges: list[Any] = []
        self.answer: Callable[[LogicRequest], Reply] = lambda requested: Reply(
            text=f"About {requested.turn.text}", remember={"last": requested.turn.text}
        )

    async def ask(
        self, service: LogicService, request: LogicRequest, *, safe: bool = False, once: Any = None
    ) -> AsyncIterator[Reply]:
        self.requested.append(request)
        yield self.answer(request)


def logic_that_fails(requested: LogicRequest) -> Reply:
    raise LogicFailed("it is down")


class MemoryWorld:
    """Needs for any channel, all in memory but the clips."""

    def __init__(self, database: Database) -> None:
        self.channel = MemoryChannel()
        self.logic = MemoryLogic()
        self.speech = LocalSpeech()
        self.recognizer: Any = None
        self.hears_early = True
        self.clips = ClipStore(database)

    async def needs(self, channel: Channel, now: datetime, assistant: Any = None) -> Needs:
        return Needs(
            self.channel, self.recognizer or self.speech, self.speech, PlainDecoder(), self.clips,
            self.logic, now, hears_early=self.hears_early,
        )  # fmt: skip


class TurnsTest(DatabaseTest):
    """A test with an assistant, a channel and a driver of turns."""

    assistant = ASSISTANT
    more_files: Mapping[str, str] = MappingProxyType({})
    settings = unhurried()

    async def asyncSetUp(self) -> None:
        await super().asyncSetUp()
        self.world = MemoryWorld(self.database)
        self.queue = queue_app(self.url)
        self.journal = Journal(self.database, self.queue)
        self.driver = QueuedDriver(self.journal, self.world)
        await self.publish(self.assistant, self.more_files)
        async with self.database.writing() as session:
            session.add(
                Channel(
                    name="test-channel",
                    kind="chat",
                    assistant="test-desk",
                    connector="",
                    values={},
                    settings=self.settings.model_dump(),
                )
            )  # fmt: skip

    async def publish(self, text: str, others: Mapping[str, str] | None = None) -> None:
        files = {"assistant.yaml": text, **(others or {})}
        revision = digest(files)
        async with self.database.writing() as session:
            await session.merge(Revision(digest=revision, assistant="test-desk", files=files))
            await session.flush()
            await session.merge(Assistant(name="test-desk", draft=revision, live=revision))

    async def arrive(
        self, id: str, text: str = "", sound: bytes | None = None, **fields: Any
    ) -> str:
        """A message comes in; gives its turn's id, or "" where it was known."""
        handle = None
        if sound is not None:
            self.world.channel.sounds[id] = sound
            handle = SoundHandle(handle=id)
        fields = {"conversation": "room-1", "contact": "isla", "name": "Isla", **fields}
        message = Inbound(id=id, text=text, sound=handle, **fields)
        taken = await take_in_once(
            self.database, "test-channel", self.settings, message, {"id": id}
        )
        return taken.turn_id

    async def waiting_jobs(self) -> list[str]:
        """The turns that jobs wait for, and take them."""
        from sqlalchemy import text

        async with self.database.writing() as session:
            rows = await session.execute(
                text("SELECT args FROM procrastinate_jobs WHERE status = 'todo' ORDER BY id")
            )
            found = [row.args["turn_id"] for row in rows]
            await session.execute(text("DELETE FROM procrastinate_jobs WHERE status = 'todo'"))
        return found


def demo_file(name: str) -> str:
    return (resources.files("fond_echo.demo") / name).read_text("utf-8")


def as_json(value: Any) -> bytes:
    return json.dumps(value).encode()
