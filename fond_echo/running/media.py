"""The media process: the sockets of calls and nothing else on its loop. It has no database and no
engines; what a call needs of them, it asks the process that began it for.

    python -m fond_echo.running.media FD plain info      # the phone process begins it so
"""

from __future__ import annotations

import contextlib
import gc
import socket
from collections.abc import Mapping
from typing import Any

from fond_echo.core.telephony.conversation import barge_in
from fond_echo.core.telephony.media import loudness
from fond_echo.documents.call_handling import Speaking
from fond_echo.documents.phone import read_phone
from fond_echo.phone.link import Link
from fond_echo.phone.remote import BackendHandlers, RemoteBackend
from fond_echo.phone.roles import ChannelState
from fond_echo.phone.server import PhoneServer
from fond_echo.running.linked import LinkedProcess, serve
from fond_echo.settings import Settings

NICENESS = -10
"""Where the system lets us, sound goes before everything else."""


class MediaProcess:
    """The channels of this process, as the other one asks for them."""

    def __init__(self, backend: RemoteBackend) -> None:
        self._backend = backend
        self._servers: dict[str, PhoneServer] = {}

    async def open(
        self, name: str, connector: str, speaking: Speaking, passwords: Mapping[str, str]
    ) -> None:
        """Listen on a channel. Raises OSError where its port is taken."""
        found = read_phone(connector, f"{name}.yaml")
        server = PhoneServer(name, found, self._backend, speaking, passwords)
        await server.start()
        self._servers[name] = server

    async def close(self, name: str) -> None:
        """Hang up a channel's calls, and listen on it no more."""
        await self._servers.pop(name).stop()

    async def speak_as(self, name: str, speaking: Speaking) -> None:
        await self._servers[name].speak_as(speaking)

    async def look(self, name: str) -> ChannelState:
        """Place calls that are due, and end those that somebody wants to be over."""
        server = self._servers[name]
        await server.look()
        state, reason = server.registrations.standing
        return ChannelState(state, reason, server.registrations.facts, server.facts)

    async def stop(self) -> None:
        """Close all channels."""
        for name in list(self._servers):
            await self.close(name)

    @property
    def handlers(self) -> dict[str, Any]:
        return {
            "open": self.open, "close": self.close, "speak_as": self.speak_as, "look": self.look,
            "stop": self.stop,
        }  # fmt: skip


async def carry(end: socket.socket) -> None:
    """Carry calls until the process that began this one is gone; then end them all."""
    backend = RemoteBackend()
    process = MediaProcess(backend)
    backend.link = Link({**backend.handlers, **process.handlers})
    loudness.warm()
    barge_in.warm()
    # What is there now stays: it is not looked through for garbage again and again.
    gc.collect()
    gc.freeze()
    await backend.link.open(end)
    await backend.link.run()
    with contextlib.suppress(Exception):
        await process.stop()


class Media(LinkedProcess):
    """A media process as the phone process has it.

    Args:
        handlers: answers what the calls there need.
    """

    def __init__(self, handlers: BackendHandlers, settings: Settings) -> None:
        link = handlers.link = Link(handlers.handlers)
        super().__init__("fond_echo.running.media", link, settings)
        self._handlers = handlers

    async def begin(self) -> None:
        """Begin it; when it ends, nobody hears an answer any more."""
        await self.start(self._handlers.gone)

    async def open(
        self, name: str, connector: str, speaking: Speaking, passwords: Mapping[str, str]
    ) -> None:
        """Listen on a channel. Raises OSError where its port is taken."""
        await self.link.call("open", name, connector, speaking, dict(passwords))

    async def close(self, name: str) -> None:
        await self.link.call("close", name)

    async def speak_as(self, name: str, speaking: Speaking) -> None:
        await self.link.call("speak_as", name, speaking)

    async def look(self, name: str) -> ChannelState:
        found: ChannelState = await self.link.call("look", name)
        return found

    async def stop(self) -> None:
        """End its calls, and it."""
        if not self.is_gone:
            await self.link.call("stop")
        await super().stop()


if __name__ == "__main__":
    serve("media", NICENESS, carry)
