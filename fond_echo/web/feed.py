"""The feed of events: wakes those who follow when something was committed."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator

import psycopg
import structlog

from fond_echo.store.database import Database, plain_url
from fond_echo.store.events import CHANNEL, Cursor, StoredEvent, events_after, present

log = structlog.get_logger()

LOOK_SECONDS = 1.0
"""How often followers look without being woken: an event whose commit had to wait for an older
transaction is announced before it can be read."""


class EventFeed:
    """One listening connection a process, any number of followers."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self.woken = asyncio.Event()
        self._task: asyncio.Task[None] | None = None

    def start(self) -> None:
        self._task = asyncio.create_task(self._listen())

    async def stop(self) -> None:
        if self._task:
            self._task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._task

    async def _listen(self) -> None:
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(
                    plain_url(self._database.url), autocommit=True
                ) as connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    async for _ in connection.notifies():
                        self._wake()
            except psycopg.Error as error:
                log.warning("the event feed lost its connection", reason=str(error).strip())
                await asyncio.sleep(LOOK_SECONDS)

    def _wake(self) -> None:
        self.woken.set()
        self.woken = asyncio.Event()

    async def follow(self, after: Cursor | None) -> AsyncIterator[StoredEvent]:
        """Events as they become readable, from a place or from now on; never ends."""
        cursor = after
        while True:
            woken = self.woken
            async with self._database.reading() as session:
                if cursor is None:
                    cursor = await present(session)
                found = await events_after(session, cursor)
            for event in found:
                cursor = event.cursor
                yield event
            if not found:
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(LOOK_SECONDS):
                        await woken.wait()
