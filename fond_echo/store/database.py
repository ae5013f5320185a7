"""The connection to PostgreSQL."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from typing import Any, TypeVar

import psycopg
import structlog
from psycopg.abc import PQGen
from sqlalchemy import event, make_url
from sqlalchemy.exc import DisconnectionError, InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as NoConnectionFree
from sqlalchemy.ext.asyncio import (
    AsyncConnection,
    AsyncEngine,
    AsyncSession,
    async_sessionmaker,
    create_async_engine,
)
from sqlalchemy.pool import ConnectionPoolEntry

log = structlog.get_logger()

DRIVER = "postgresql+psycopg"

IDLE_SECONDS = 2.0
"""A connection that was used more lately is taken to be alive."""

AWAY = (OperationalError, InterfaceError, NoConnectionFree, psycopg.OperationalError)
"""What is raised when the database does not answer: whatever was asked is tried again later."""

AGAIN_SECONDS = 1.0
"""Until it is asked again."""

Result = TypeVar("Result")

UNDISTURBED_SECONDS = 3_600.0


class QuietConnection(psycopg.AsyncConnection[Any]):
    """A connection for whoever listens. While psycopg waits it looks ten times a second whether it
    was interrupted, which asyncio tells anyway; this one sleeps."""

    async def wait(
        self, gen: PQGen[Result], interval: float = UNDISTURBED_SECONDS,
        timeout: float | None = None,  # noqa: ASYNC109  # psycopg's name
    ) -> Result:  # fmt: skip
        return await super().wait(gen, interval=interval, timeout=timeout)


async def patiently(work: Callable[[], Awaitable[Result]]) -> Result:
    """Do something, again as long as the database is away."""
    while True:
        try:
            return await work()
        except AWAY as error:
            log.warning("the database is away", reason=str(error).splitlines()[0])
            await asyncio.sleep(AGAIN_SECONDS)


def plain_url(url: str) -> str:
    """The address as libpq takes it."""
    return make_url(url).set(drivername="postgresql").render_as_string(hide_password=False)


class Database:
    """Sessions on one PostgreSQL database."""

    def __init__(self, url: str, *, connections: int = 10) -> None:
        self.url = url
        self.engine: AsyncEngine = create_async_engine(
            make_url(url).set(drivername=DRIVER),
            # A connection beyond the pool's size would be closed after each use.
            pool_size=2 * connections,
            max_overflow=0,
        )
        _ask_after_idleness(self.engine)
        self._sessions = async_sessionmaker(self.engine, expire_on_commit=False)
        # To begin and to end a transaction for what is only read would take two more exchanges.
        self._alone = self.engine.execution_options(isolation_level="AUTOCOMMIT")
        self._readers = async_sessionmaker(self._alone, expire_on_commit=False, autoflush=False)

    @asynccontextmanager
    async def reading(self) -> AsyncIterator[AsyncSession]:
        """A session for reading, each statement by itself as in the isolation level READ COMMITTED;
        what is changed in objects is not kept."""
        async with self._readers() as session:
            yield session

    @asynccontextmanager
    async def writing(self) -> AsyncIterator[AsyncSession]:
        """A session in one transaction: kept at the end, or undone on any error."""
        async with self._sessions.begin() as session:
            yield session

    @asynccontextmanager
    async def alone(self) -> AsyncIterator[AsyncConnection]:
        """A connection on which each statement is a transaction of its own."""
        async with self._alone.connect() as connection:
            yield connection

    async def close(self) -> None:
        await self.engine.dispose()


def _ask_after_idleness(engine: AsyncEngine) -> None:
    """Connections that were not used for a while are asked whether they still live; all others are
    taken to: an exchange before every use would cost more than the use."""

    @event.listens_for(engine.sync_engine, "checkin")
    def checkin(connection: Any, record: ConnectionPoolEntry) -> None:
        record.info["used_at"] = time.monotonic()

    @event.listens_for(engine.sync_engine, "checkout")
    def checkout(connection: Any, record: ConnectionPoolEntry, proxy: Any) -> None:
        idle = time.monotonic() - record.info.get("used_at", time.monotonic())
        if idle < IDLE_SECONDS:
            return
        try:
            engine.sync_engine.dialect.do_ping(connection)
        except engine.sync_engine.dialect.dbapi.Error as error:  # type: ignore[union-attr]
            raise DisconnectionError("the connection was closed meanwhile") from error


async def driver_connection(session: AsyncSession) -> psycopg.AsyncConnection[Any]:
    """The psycopg connection under a session, to do something else in its transaction."""
    connection = await session.connection()
    raw = await connection.get_raw_connection()
    driver = raw.driver_connection
    assert isinstance(driver, psycopg.AsyncConnection)
    return driver
