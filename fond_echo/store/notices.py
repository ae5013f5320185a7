"""What was committed, as the database announces it: who has nothing to do is woken, and need not
look."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

import psycopg
import structlog
from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.store.database import Database, QuietConnection, plain_url

log = structlog.get_logger()

CHANNEL = "fond_echo_events"
RECONNECT_SECONDS = 1.0

Told = Callable[[str, str], None]
"""Takes the type and the subject of what was committed; both are "" after a time in which nothing
was heard."""

_ANNOUNCE = text(f"SELECT pg_notify('{CHANNEL}', CAST(:type AS text) || ' ' || :subject)")


async def announce(session: AsyncSession, type: str, subject: str) -> None:
    """Wake whoever listens when the session's transaction commits, without an event on record."""
    await session.execute(_ANNOUNCE, {"type": type, "subject": subject})


class Notices:
    """One listening connection a process.

    Args:
        told: is called in the loop, and must return at once.
    """

    def __init__(self, database: Database, told: Told) -> None:
        self._database = database
        self._told = told

    async def listen(self) -> None:
        """Without end; a lost connection is made again."""
        while True:
            try:
                async with await QuietConnection.connect(
                    plain_url(self._database.url), autocommit=True
                ) as connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    self._told("", "")
                    async for notice in connection.notifies():
                        type, _, subject = notice.payload.partition(" ")
                        self._told(type, subject)
            except (psycopg.Error, OSError) as error:
                log.warning("notices lost their connection", reason=str(error).strip())
                await asyncio.sleep(RECONNECT_SECONDS)
