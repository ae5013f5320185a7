"""The composition root: everything that more than one process works with, put together in one
place."""

from __future__ import annotations

import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from datetime import datetime

import httpx

from fond_echo.channels.build import ChannelBuilder
from fond_echo.connectors.guard import guarded_client
from fond_echo.connectors.logic import Breakers, LogicCaller
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.engines.built_in import ENGINES
from fond_echo.engines.cached import CachedSynthesizer, SpokenCache
from fond_echo.engines.chosen import ChosenRecognizer, ChosenSynthesizer
from fond_echo.engines.registry import Engines, EngineSettings, Purpose, Wanted, installed
from fond_echo.settings import Settings
from fond_echo.speech.decoding import GuardedDecoder
from fond_echo.stages.ports import Decoder, Needs
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.clips import ClipStore
from fond_echo.store.database import Database
from fond_echo.store.records import Channel
from fond_echo.store.secrets import SecretBox


@dataclass
class Installation:
    """What an installation has: its database, sound, secrets, engines, and a way to the outside.

    Attributes:
        purpose: what its engines are used for in this process.
    """

    settings: Settings
    database: Database
    client: httpx.AsyncClient
    engines: Engines[EngineSettings]
    purpose: Purpose = "voice-note"
    blobs: PostgresBlobs = field(default_factory=PostgresBlobs)
    decoder: Decoder = field(default_factory=GuardedDecoder)

    def __post_init__(self) -> None:
        self.clips = ClipStore(self.database, self.blobs)
        self.builder = ChannelBuilder(self.client, self.clips)
        self.secrets = SecretBox(self.settings.encryption_keys())
        self._breakers = Breakers()
        self._spoken = SpokenCache()

    @classmethod
    @asynccontextmanager
    async def open(
        cls, settings: Settings, database: Database, purpose: Purpose = "voice-note"
    ) -> AsyncIterator[Installation]:
        """An installation while it is used; the database is the caller's to close."""
        client = guarded_client(settings.private_hosts)
        context = EngineSettings(settings.speech_url, settings.speech_token, client)
        engines = Engines(context, installed(ENGINES))
        try:
            yield cls(settings, database, client, engines, purpose)
        finally:
            await engines.close()
            await client.aclose()

    def warm(self) -> None:
        """Load what the first voice note needs, while there is none yet."""
        if isinstance(self.decoder, GuardedDecoder):
            self.decoder.warm()
        threading.Thread(target=_load, daemon=True).start()

    async def vault(self) -> Vault:
        """All secrets as they are now, each bound to its hosts. A vault counts which secrets one
        exchange used, so each caller has its own."""
        async with self.database.reading() as session:
            found = await self.secrets.read(session)
        return Vault({name: Secret(name, *kept) for name, kept in found.items()})

    def recognizer(self, wanted: Wanted) -> ChosenRecognizer:
        """Hears with whichever engine is chosen."""
        return ChosenRecognizer(self.engines, wanted)

    def synthesizer(self, wanted: Wanted) -> ChosenSynthesizer:
        """Speaks with whichever engine is chosen."""
        return ChosenSynthesizer(self.engines, wanted)

    async def needs(self, channel: Channel, now: datetime) -> Needs:
        """Everything for a turn on a channel."""
        vault = await self.vault()
        wanted = Wanted("", channel.assistant, channel.name, self.purpose)
        speaking = CachedSynthesizer(self.synthesizer(wanted), self._spoken, wanted)
        return Needs(
            channel=self.builder.build(channel, vault),
            recognizer=self.recognizer(wanted),
            synthesizer=speaking,
            decoder=self.decoder,
            clips=self.clips,
            logic=LogicCaller(self.client, vault.apart(), self._breakers),
            now=now,
        )


def _load() -> None:
    """Load the large libraries that the first voice note needs."""
    import bm25s  # noqa: F401
    import pyloudnorm  # noqa: F401
    import wordfreq  # noqa: F401
