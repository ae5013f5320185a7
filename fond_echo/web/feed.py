"""The feed of events: wakes those who follow when something was committed."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import AsyncIterator, Iterator

from fond_echo.background import keep_running
from fond_echo.store.database import Database
from fond_echo.store.events import Cursor, StoredEvent, events_after, present
from fond_echo.store.keys import Bearer, still_opens
from fond_echo.store.notices import Notices

LOOK_SECONDS = 1.0
"""How often followers look without being woken: an event whose commit had to wait for an older
transaction is announced before it can be read."""


TURN_ENDS = ("turn.answered", "turn.failed", "turn.cancelled")


class EventFeed:
    """Any number of followers, and any number of those who wait for the end of one turn."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._woken = asyncio.Event()
        self._turns: dict[str, set[asyncio.Event]] = {}
        self._task: asyncio.Task[None] | None = None

    def start(self) -> None:
        self._task = asyncio.create_task(
            keep_running("the event feed", Notices(self._database, self._wake).listen)
        )

    async def stop(self) -> None:
        if self._task:
            self._task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._task

    def _wake(self, type: str, subject: str) -> None:
        self._woken.set()
        self._woken = asyncio.Event()
        # After a time in which nothing was heard, whoever waits looks once.
        ending = [subject] if type in TURN_ENDS else [] if type else list(self._turns)
        for turn_id in ending:
            for ended in self._turns.get(turn_id, ()):
                ended.set()

    @contextlib.contextmanager
    def ending(self, turn_id: str) -> Iterator[asyncio.Event]:
        """Set when a turn ends, while this is open."""
        ended = asyncio.Event()
        self._turns.setdefault(turn_id, set()).add(ended)
        try:
            yield ended
        finally:
            waiting = self._turns[turn_id]
            waiting.discard(ended)
            if not waiting:
                del self._turns[turn_id]

    async def follow(self, after: Cursor | None, bearer: Bearer) -> AsyncIterator[StoredEvent]:
        """Events as they become readable, from a place or from now on; it ends within about
        LOOK_SECONDS when the key is revoked, or the browser signed out."""
        cursor, checked_at = after, time.monotonic()
        while True:
            woken = self._woken
            async with self._database.reading() as session:
                if time.monotonic() - checked_at >= LOOK_SECONDS:
                    checked_at = time.monotonic()
                    if not await still_opens(session, bearer):
                        return
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
