"""Asking networks for messages, for channels that have no webhook: one process a channel at a
time."""

from __future__ import annotations

import asyncio
import contextlib
import time
import zlib
from dataclasses import dataclass

import psycopg
import structlog
from sqlalchemy import select, update
from sqlalchemy.exc import SQLAlchemyError

from fond_echo.background import Looking
from fond_echo.channels.chat import ChatChannel
from fond_echo.composition import Installation
from fond_echo.contract.channel import ChannelSettings
from fond_echo.core.errors import FondEchoError
from fond_echo.store.arriving import take_in_all
from fond_echo.store.database import Database, plain_url
from fond_echo.store.events import emit
from fond_echo.store.records import Channel

log = structlog.get_logger()

SOON, LONGEST = 0.05, 4.0
"""Seconds between looks for channels to poll: a notice tells of new ones, and nobody of a process
that has stopped and whose channels are to be polled here."""

WAIT_AFTER_ERROR = 5.0
READ_AGAIN = 5.0
"""Seconds after which a channel and the secrets are read again, of which no notice tells."""

HELD_SECONDS = 5.0
"""Seconds after which it is looked whether the lock is still held. Where it is not, another process
may poll too for as long, and what both are given is taken in once."""

LOCKS = 1_732_050


@dataclass
class _Polled:
    """A channel that is polled, as it was read."""

    channel: ChatChannel
    settings: ChannelSettings
    every: float
    cursor: str
    read_at: float


class Poller:
    """Polls every channel whose description says so."""

    def __init__(self, database: Database, world: Installation) -> None:
        self._database = database
        self._world = world
        self._tasks: dict[str, asyncio.Task[None]] = {}
        self._looking = Looking(SOON, LONGEST)
        self._polled: dict[str, _Polled] = {}
        self._reasons: dict[str, str] = {}

    def told(self, type: str, subject: str) -> None:
        """Something was committed."""
        if not type:
            self._polled.clear()
        elif type.startswith("channel."):
            self._polled.pop(subject, None)
        else:
            return
        self._looking.wake()

    async def run(self) -> None:
        """Look for channels to poll, for ever."""
        try:
            while True:
                with contextlib.suppress(psycopg.Error, SQLAlchemyError, OSError):
                    await self._look()
                await self._looking.pause(None)
        finally:
            for task in self._tasks.values():
                task.cancel()
            await asyncio.gather(*self._tasks.values(), return_exceptions=True)

    async def _look(self) -> None:
        async with self._database.reading() as session:
            wanted = select(Channel.name).where(Channel.kind == "chat", Channel.state == "polling")
            names = set((await session.execute(wanted)).scalars())
        for name in names:
            if name not in self._tasks or self._tasks[name].done():
                self._tasks[name] = asyncio.create_task(self._poll_channel(name))

    async def _poll_channel(self, name: str) -> None:
        """Poll a channel; where the database goes away, it is begun again later."""
        try:
            await self._hold(name)
        except (psycopg.Error, SQLAlchemyError, OSError) as error:
            log.warning("polling stops for now", channel=name, reason=str(error).splitlines()[0])
        except Exception:
            log.exception("polling failed; it is begun again", channel=name)
            await asyncio.sleep(WAIT_AFTER_ERROR)

    async def _hold(self, name: str) -> None:
        """Poll a channel for as long as this process holds its lock."""
        lock = LOCKS * 2**32 + zlib.crc32(name.encode())
        connection = await psycopg.AsyncConnection.connect(
            plain_url(self._database.url), autocommit=True
        )
        async with connection:
            got = await connection.execute("SELECT pg_try_advisory_lock(%s)", (lock,))
            if not (await got.fetchone() or (False,))[0]:
                return
            held_at = time.monotonic()
            while True:
                seconds = await self._once(name)
                if seconds is None:
                    return
                await asyncio.sleep(seconds)
                if time.monotonic() - held_at > HELD_SECONDS:
                    await connection.execute("SELECT 1")
                    held_at = time.monotonic()

    async def _once(self, name: str) -> float | None:
        """Ask once; gives when to ask again, or None where the channel is polled no more."""
        try:
            polled = self._polled.get(name)
            if polled is None or time.monotonic() - polled.read_at > READ_AGAIN:
                polled = await self._read(name)
            if polled is None:
                return None
            arrived, cursor = await polled.channel.poll(polled.cursor)
        except FondEchoError as error:
            log.warning("polling failed", channel=name, reason=str(error))
            await self._say(name, str(error))
            return WAIT_AFTER_ERROR
        await self._say(name, "")
        await take_in_all(self._database, name, polled.settings, arrived)
        if cursor != polled.cursor:
            # Moved only now: what was asked for and not taken in comes again.
            async with self._database.writing() as session:
                await session.execute(
                    update(Channel).where(Channel.name == name).values(cursor=cursor)
                )
            polled.cursor = cursor
        return polled.every

    async def _say(self, name: str, reason: str) -> None:
        """Write down why a channel cannot be polled, or that it can again, where that is new."""
        if self._reasons.get(name, "") == reason:
            return
        async with self._database.writing() as session:
            changed = (
                update(Channel)
                .where(Channel.name == name, Channel.state == "polling", Channel.reason != reason)
                .values(reason=reason)
                .returning(Channel.name)
            )
            if (await session.execute(changed)).first():
                await emit(session, "channel.failed" if reason else "channel.connected", name)
        self._reasons[name] = reason

    async def _read(self, name: str) -> _Polled | None:
        """A channel as it is now; None where it is not to be polled. Raises FondEchoError."""
        self._polled.pop(name, None)
        read_at = time.monotonic()
        async with self._database.reading() as session:
            record = await session.get(Channel, name)
        if record is None or record.kind != "chat" or record.state != "polling":
            return None
        channel = self._world.builder.receiving(record, await self._world.vault())
        if not isinstance(channel, ChatChannel) or channel.connector.receive.poll is None:
            return None
        settings = ChannelSettings.model_validate(record.settings)
        # What another process wrote is not known here.
        self._reasons[name] = record.reason
        every = channel.connector.receive.poll.every
        self._polled[name] = _Polled(channel, settings, every, record.cursor, read_at)
        return self._polled[name]
