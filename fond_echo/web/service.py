"""What every request handler works with, made once a process."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated

import httpx
import procrastinate
from fastapi import Depends, Request

from fond_echo.channels.build import ChannelBuilder, ReceivingChannel
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.contract.channel import ChannelSettings
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.checking import Report, check
from fond_echo.isolation import Exhausted, Isolation
from fond_echo.settings import Settings
from fond_echo.speech.decoding import GuardedDecoder
from fond_echo.speech.remote import RemoteSpeech
from fond_echo.stages.ports import Decoder, Recognizer
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.clips import ClipStore
from fond_echo.store.database import Database
from fond_echo.store.records import Channel
from fond_echo.store.secrets import SecretBox
from fond_echo.web.feed import EventFeed
from fond_echo.web.throttle import Tries

CHECK_MEMORY, CHECK_SECONDS = 2 * 2**30, 10
"""What checking an assistant's files may cost."""

CHANNEL_SECONDS = 2.0
"""How long a channel read from the database is used before it is read again."""


class NotCheckable(FondEchoError):
    """Files whose check takes too much memory or time."""

    code = "files-not-checkable"


@dataclass(frozen=True)
class Receiving:
    """A channel as webhooks need it."""

    channel: ReceivingChannel
    vault: Vault
    settings: ChannelSettings
    read_at: float


class Service:
    """The web process's hold on the world."""

    def __init__(
        self,
        settings: Settings,
        database: Database,
        queue: procrastinate.App,
        client: httpx.AsyncClient,
    ) -> None:
        self.settings = settings
        self.database = database
        self.queue = queue
        self.blobs = PostgresBlobs()
        self.clips = ClipStore(database, self.blobs)
        self.builder = ChannelBuilder(client, self.clips)
        self.secrets = SecretBox(settings.encryption_keys())
        self.feed = EventFeed(database)
        self.speech = RemoteSpeech(settings.speech_url, settings.speech_token)
        self.ear: Recognizer = self.speech
        self.decoder: Decoder = GuardedDecoder()
        self._isolation = Isolation(memory=CHECK_MEMORY, cpu_seconds=CHECK_SECONDS, at_once=2)
        self.tries = Tries()
        self.asking: dict[str, int] = {}
        """How many requests wait for an answer, by channel."""
        self._channels: dict[str, Receiving] = {}

    async def check(self, files: Mapping[str, str]) -> Report:
        """Check an assistant's files where they can do no harm. Raises NotCheckable."""
        try:
            return await self._isolation.run(check, dict(files))
        except Exhausted as error:
            raise NotCheckable(
                f"the files could not be checked: {error.what}",
                remedy="make them smaller and their grammars and templates simpler",
            ) from error

    async def close(self) -> None:
        """Let go of what is held open."""
        await self.speech.close()

    async def vault(self) -> Vault:
        """All secrets, each still bound to its hosts."""
        async with self.database.reading() as session:
            found = await self.secrets.read(session)
        return Vault({name: Secret(name, *kept) for name, kept in found.items()})

    async def receiving_channel(self, name: str) -> Receiving | None:
        """A channel that has a network, read again when it is two seconds old; None where there is
        none of that name."""
        kept = self._channels.get(name)
        if kept and time.monotonic() - kept.read_at < CHANNEL_SECONDS:
            return kept
        async with self.database.reading() as session:
            record = await session.get(Channel, name)
        if record is None or record.kind not in ("chat", "adapter"):
            self._channels.pop(name, None)
            return None
        vault = await self.vault()
        channel = self.builder.receiving(record, vault)
        settings = ChannelSettings.model_validate(record.settings)
        self._channels[name] = Receiving(channel, vault, settings, time.monotonic())
        return self._channels[name]

    def forget_channel(self, name: str) -> None:
        """Read a channel again at its next use."""
        self._channels.pop(name, None)


def _service(request: Request) -> Service:
    service = request.app.state.service
    assert isinstance(service, Service)
    return service


TheService = Annotated[Service, Depends(_service)]
