"""What queued turns need, put together for each channel."""

from __future__ import annotations

import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import datetime

import httpx

from fond_echo.channels.build import ChannelBuilder
from fond_echo.connectors.guard import guarded_client
from fond_echo.connectors.logic import Breakers, LogicCaller
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.settings import Settings
from fond_echo.speech.decoding import GuardedDecoder
from fond_echo.speech.priority import Priority
from fond_echo.speech.remote import RemoteSpeech
from fond_echo.stages.ports import Needs
from fond_echo.store.clips import ClipStore
from fond_echo.store.database import Database
from fond_echo.store.records import Channel
from fond_echo.store.secrets import SecretBox


def _load() -> None:
    """Load the large libraries that the first voice note needs, while there is none yet."""
    import bm25s  # noqa: F401
    import pyloudnorm  # noqa: F401
    import wordfreq  # noqa: F401


class ServiceWorld:
    """The world of an installation: its database, its speech process, the outside."""

    def __init__(
        self,
        settings: Settings,
        database: Database,
        client: httpx.AsyncClient,
        speech: RemoteSpeech,
    ) -> None:
        self.client = client
        self._database = database
        self._speech = speech
        self._secrets = SecretBox(settings.encryption_keys())
        self.clips = ClipStore(database)
        self.builder = ChannelBuilder(client, self.clips)
        self._breakers = Breakers()
        self._decoder = GuardedDecoder()
        self._decoder.warm()
        threading.Thread(target=_load, daemon=True).start()

    @classmethod
    @asynccontextmanager
    async def open(
        cls, settings: Settings, database: Database, priority: Priority = Priority.VOICE_NOTE
    ) -> AsyncIterator[ServiceWorld]:
        client = guarded_client(settings.private_hosts)
        speech = RemoteSpeech(settings.speech_url, settings.speech_token, priority)
        try:
            yield cls(settings, database, client, speech)
        finally:
            await client.aclose()
            await speech.close()

    async def vault(self) -> Vault:
        """All secrets as they are now, each bound to its hosts. A vault counts which secrets one
        exchange used, so each caller has its own."""
        async with self._database.reading() as session:
            found = await self._secrets.read(session)
        return Vault({name: Secret(name, *kept) for name, kept in found.items()})

    async def needs(self, channel: Channel, now: datetime) -> Needs:
        """Everything for a turn on a channel."""
        vault = await self.vault()
        return Needs(
            channel=self.builder.build(channel, vault),
            recognizer=self._speech,
            synthesizer=self._speech,
            decoder=self._decoder,
            clips=self.clips,
            logic=LogicCaller(self.client, vault.apart(), self._breakers),
            now=now,
        )
