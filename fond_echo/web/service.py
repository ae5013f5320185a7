"""What every request handler works with, made once a process."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Any

import procrastinate
from fastapi import Depends, Request

from fond_echo.channels.build import ReceivingChannel
from fond_echo.composition import Installation
from fond_echo.connectors.secrets import Vault
from fond_echo.contract.channel import ChannelSettings
from fond_echo.core.caching import Recent
from fond_echo.core.errors import Exhausted
from fond_echo.documents.checking import Report, check
from fond_echo.documents.digest import digest
from fond_echo.documents.pdf import read_ahead
from fond_echo.engines.registry import Wanted
from fond_echo.kept_process import KeptProcess
from fond_echo.store.records import Channel
from fond_echo.turns.ports import Recognizer, Synthesizer
from fond_echo.web.errors import NotCheckable
from fond_echo.web.feed import EventFeed
from fond_echo.web.throttle import KnownKeys, Tries

CHECK_MEMORY, CHECK_SECONDS = 2 * 2**30, 10
"""What checking an assistant's files may cost."""

FINDINGS_KEPT = 10_000
RENDERED_BYTES = 32 * 2**20
CHANNEL_SECONDS = 2.0
"""How long a channel read from the database is used before it is read again."""


_reports: Recent[str, Report] = Recent(
    FINDINGS_KEPT, lambda report: 1 + len(report.errors) + len(report.warnings)
)
"""What was found in files that were checked lately, by their digest."""


@dataclass(frozen=True)
class Receiving:
    """A channel as webhooks need it."""

    channel: ReceivingChannel
    vault: Vault
    settings: ChannelSettings
    read_at: float


class Service:
    """The web process's hold on the installation."""

    def __init__(self, installation: Installation, queue: procrastinate.App) -> None:
        self.installation = installation
        self.settings, self.database = installation.settings, installation.database
        self.queue = queue
        self.blobs, self.clips = installation.blobs, installation.clips
        self.builder, self.secrets = installation.builder, installation.secrets
        self.feed = EventFeed(self.database)
        self.recognizer: Recognizer = installation.recognizer(Wanted(purpose="program"))
        self.synthesizer: Synthesizer = installation.synthesizer(Wanted(purpose="program"))
        self.rendered: Recent[Any, Any] = Recent(RENDERED_BYTES, lambda made: len(made.sound.data))
        """Texts that programs had made sound, by all that makes them sound so."""
        self.decoder = installation.decoder
        self._checking = KeptProcess(memory=CHECK_MEMORY, cpu_seconds=CHECK_SECONDS)
        self.tries = Tries()
        self.known_keys = KnownKeys()
        self.asking: dict[str, int] = {}
        """How many requests wait for an answer, by channel."""
        self._channels: dict[str, Receiving] = {}

    @property
    def live_recognizer(self) -> Any:
        """The engine that hears while somebody is still speaking: `listen` of the built-in one."""
        return self.installation.engines.find("transcribe", Wanted(purpose="program"))[0]

    async def check(self, files: Mapping[str, str]) -> Report:
        """Check an assistant's files where they can do no harm; the same files are checked once.

        Raises:
            NotCheckable: it takes too much.
        """
        of = await asyncio.to_thread(digest, files)
        if (known := _reports.get(of)) is not None:
            return known
        await asyncio.to_thread(read_ahead, files)
        try:
            report = await self._checking.run(check, dict(files))
        except Exhausted as error:
            raise NotCheckable(
                f"the files could not be checked: {error.what}",
                remedy="make them smaller and their grammars and templates simpler",
            ) from error
        _reports.keep(of, report)
        return report

    async def vault(self) -> Vault:
        """All secrets, each still bound to its hosts."""
        return await self.installation.vault()

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


async def _service(request: Request) -> Service:
    service = request.app.state.service
    assert isinstance(service, Service)
    return service


TheService = Annotated[Service, Depends(_service)]
