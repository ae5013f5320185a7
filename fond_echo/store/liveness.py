"""Whether a process still lives, as others can tell: it holds a lock in the database, which goes
with its connection, and the operating system closes that when the process ends.

A process that stands still is no dead one: it holds its lock.
"""

from __future__ import annotations

import asyncio
import contextlib
import secrets

import structlog
from sqlalchemy import text

from fond_echo.store.database import AWAY, Database

log = structlog.get_logger()

SPACE = 1_413_829_447
"""The first number of these advisory locks; the second is the process's own."""

ASK_SECONDS = 5.0
"""How often the connection is asked whether it is still there."""

IS_GONE = f"pg_try_advisory_xact_lock({SPACE}, {{}})"
"""SQL that is true where the process with a number is gone; the expression goes into the place."""

_HOLD = text(f"SELECT pg_advisory_lock({SPACE}, :number)")


class Liveness:
    """This process, for others to see.

    Attributes:
        number: what it is known by, drawn by lot.
    """

    def __init__(self, database: Database) -> None:
        self.number = 1 + secrets.randbelow(2**31 - 1)
        self._database = database
        self._held = asyncio.Event()

    async def held(self) -> None:
        """Wait until others can see it for the first time."""
        await self._held.wait()

    async def hold(self) -> None:
        """Hold the lock, again whenever the database was away, until cancelled."""
        while True:
            with contextlib.suppress(*AWAY):
                async with self._database.alone() as connection:
                    await connection.execute(_HOLD, {"number": self.number})
                    self._held.set()
                    while True:
                        await asyncio.sleep(ASK_SECONDS)
                        await connection.execute(text("SELECT 1"))
            log.warning("the database was lost; this process shows itself again")
            await asyncio.sleep(1.0)
