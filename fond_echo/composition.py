"""The composition root: everything that more than one process works with, put together in one
place."""

from __future__ import annotations

import threading
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

import httpx

from fond_echo.channels.build import ChannelBuilder
from fond_echo.connectors.breaker import Breakers
from fond_echo.connectors.guard import guarded_client
from fond_echo.connectors.logic import LogicCaller
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.contract.channel import ChannelSettings
from fond_echo.contract.engine import EngineKind
from fond_echo.contract.renditions import LINK_HOURS
from fond_echo.core.audio.clip import Clip
from fond_echo.core.language.pls import Sounds
from fond_echo.core.language.prosody import PLAIN, Prosody
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.synthesis.sound import NO_RECORDINGS, SpokenSound
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.services import EngineNames, names_of
from fond_echo.engines.built_in import ENGINES
from fond_echo.engines.cached import CachedSynthesizer, SpokenCache
from fond_echo.engines.chosen import (
    ChosenAnswerer,
    ChosenHelper,
    ChosenRecognizer,
    ChosenSynthesizer,
)
from fond_echo.engines.connected import ConnectedEngines
from fond_echo.engines.errors import NoEngine
from fond_echo.engines.order import EngineOrder
from fond_echo.engines.registry import Engines, EngineSettings, Purpose, Wanted, installed
from fond_echo.settings import Settings
from fond_echo.signed_links import link_to
from fond_echo.speech.decoding import GuardedDecoder
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.clips import ClipStore
from fond_echo.store.database import Database
from fond_echo.store.engines import count_asked
from fond_echo.store.records import Channel
from fond_echo.store.secrets import SecretBox
from fond_echo.turns.needs import Needs
from fond_echo.turns.ports import Decoder, Synthesizer


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
        self.connected = ConnectedEngines(self.client, self.decoder)
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
        """Load what the first voice note or call needs, before it comes."""
        # In a call nothing has to be decoded but the sounds that a reply brings.
        if isinstance(self.decoder, GuardedDecoder) and self.purpose == "voice-note":
            self.decoder.warm()
        threading.Thread(target=_load, daemon=True).start()

    async def vault(self) -> Vault:
        """All secrets as they are now, each bound to its hosts. A vault counts which secrets one
        exchange used, so each caller has its own."""
        async with self.database.reading() as session:
            found = await self.secrets.read(session)
        return Vault({name: Secret(name, *kept) for name, kept in found.items()})

    def recognizer(self, wanted: Wanted, order: EngineOrder | None = None) -> ChosenRecognizer:
        """Hears with whichever engine is chosen."""
        return ChosenRecognizer(self.engines, wanted, order or EngineOrder())

    def synthesizer(self, wanted: Wanted, order: EngineOrder | None = None) -> ChosenSynthesizer:
        """Speaks with whichever engine is chosen."""
        return ChosenSynthesizer(self.engines, wanted, order or EngineOrder())

    def engine_voice(self, names: Sequence[str]) -> Synthesizer:
        """Speaks with engines by their names, for words that belong to no turn."""
        return _EngineVoice(self, tuple(names))

    async def order(
        self, names: Mapping[EngineKind, Sequence[str]], vault: Vault, wanted: Wanted,
        chosen: EngineNames | None = None,
    ) -> EngineOrder:  # fmt: skip
        """The engines that an assistant names, as they are connected now."""
        chosen = chosen or EngineNames()
        if not names and not chosen.long_files:
            return EngineOrder()
        connected = await self.connected.engines(self.database, vault)

        def built_in(kind: EngineKind, name: str) -> Any:
            try:
                return self.engines.find(kind, wanted, [name])[0]
            except NoEngine:
                return None

        return EngineOrder(
            names, connected, built_in, tuple(names_of(chosen.long_files)), chosen.second_pass,
            chosen.parameters(),
        )  # fmt: skip

    async def needs(
        self, channel: Channel, now: datetime, assistant: AssistantFile | None = None
    ) -> Needs:
        """Everything for a turn on a channel."""
        vault = await self.vault()
        wanted = Wanted("", channel.assistant, channel.name, self.purpose)
        chosen = assistant.engines if assistant is not None else EngineNames()
        names = chosen.of(in_call=self.purpose == "call")
        settings = ChannelSettings.model_validate(channel.settings)
        names |= settings.engines
        order = await self.order(names, vault, wanted, chosen)
        speaking = CachedSynthesizer(
            self.synthesizer(wanted, order), self._spoken, (wanted, order.files("speak")),
            lambda: order.first_answered,
        )  # fmt: skip
        recognizer = self.recognizer(wanted, order)
        return Needs(
            channel=self.builder.build(channel, vault),
            recognizer=recognizer,
            max_seconds=60.0 * settings.max_audio_minutes,
            hears_early="transcribe" not in order.names,
            cost_of_hearing=recognizer.cost,
            hears_back=self.recognizer(replace(wanted, purpose="long-file")),
            outside_voice="speak" in order.names,
            live=None if self.purpose != "call" else recognizer.live,
            synthesizer=speaking,
            decoder=self.decoder,
            clips=self.clips,
            logic=LogicCaller(self.client, vault.apart(), self._breakers),
            now=now,
            answerer=ChosenAnswerer(order),
            helper=ChosenHelper(order),
            asked=order.taken,
            link=lambda clip: link_to(self.settings, clip, LINK_HOURS)[0],
        )


@dataclass(frozen=True)
class _EngineVoice:
    """Speaks with engines as they are connected when something is to be said (`Synthesizer`)."""

    installation: Installation
    names: tuple[str, ...]

    async def speak(
        self, text: str, voice: str, *, seed: int, sounds: Sounds = (), language: str = "en",
        prosody: Prosody = PLAIN, recordings: Mapping[str, Clip] = NO_RECORDINGS,
    ) -> AsyncIterator[SpokenSound]:  # fmt: skip
        """Raises AllEnginesFailed."""
        world = self.installation
        wanted = Wanted(language, purpose=world.purpose)
        order = await world.order({"speak": self.names}, await world.vault(), wanted)
        async for part in world.synthesizer(wanted, order).speak(
            text, voice, seed=seed, sounds=sounds, language=language, prosody=prosody,
            recordings=recordings,
        ):  # fmt: skip
            yield part
        async with world.database.writing() as session:
            await count_asked(session, "", order.taken())


def _load() -> None:
    """Load the large libraries that the first voice note needs."""
    import bm25s  # noqa: F401
    import pyloudnorm  # noqa: F401
    import wordfreq  # noqa: F401

    # How often words are used is read with the first one: a quarter of a second.
    language_of().wording.rarity("boat")
