"""The connection to PostgreSQL."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any

import psycopg
from sqlalchemy import make_url
from sqlalchemy.exc import InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as NoConnectionFree
from sqlalchemy.ext.asyncio import (
    AsyncEngine,
    AsyncSession,
    async_sessionmaker,
    create_async_engine,
)

DRIVER = "postgresql+psycopg"

AWAY = (OperationalError, InterfaceError, NoConnectionFree, psycopg.OperationalError)
"""What is raised when the database does not answer: whatever was asked is tried again later."""


def plain_url(url: str) -> str:
    """The address as libpq takes it."""
    return make_url(url).set(drivername="postgresql").render_as_string(hide_password=False)


class Database:
    """Sessions on one PostgreSQL database."""

    def __init__(self, url: str, *, connections: int = 10) -> None:
        self.url = url
        self.engine: AsyncEngine = create_async_engine(
            make_url(url).set(drivername=DRIVER),
            pool_size=connections,
            max_overflow=connections,
            pool_pre_ping=True,
        )
        self._sessions = async_sessionmaker(self.engine, expire_on_commit=False)

    @asynccontextmanager
    async def reading(self) -> AsyncIterator[AsyncSession]:
        """A session for reading; nothing is kept."""
        async with self._sessions() as session:
            yield session

    @asynccontextmanager
    async def writing(self) -> AsyncIterator[AsyncSession]:
        """A session in one transaction: kept at the end, or undone on any error."""
        async with self._sessions.begin() as session:
            yield session

    async def close(self) -> None:
        await self.engine.dispose()


async def driver_connection(session: AsyncSession) -> psycopg.AsyncConnection[Any]:
    """The psycopg connection under a session, to do something else in its transaction."""
    connection = await session.connection()
    raw = await connection.get_raw_connection()
    driver = raw.driver_connection
    assert isinstance(driver, psycopg.AsyncConnection)
    return driver
