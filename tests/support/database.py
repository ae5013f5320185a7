"""One PostgreSQL server for the test run, a fresh database for each test class."""

from __future__ import annotations

import asyncio
import atexit
import itertools
import shutil
import tempfile
import unittest
from functools import lru_cache
from pathlib import Path

import psycopg

from fond_echo.store.database import Database, plain_url
from fond_echo.store.local import LocalPostgres
from fond_echo.store.migrate import migrate

_numbers = itertools.count(1)


@lru_cache(maxsize=1)
def server() -> LocalPostgres:
    folder = Path(tempfile.mkdtemp(prefix="fond-echo-tests-"))
    folder.chmod(0o755)
    postgres = LocalPostgres(folder / "postgres", lasting=False)
    postgres.start()

    def end() -> None:
        postgres.stop()
        shutil.rmtree(folder, ignore_errors=True)

    atexit.register(end)
    return postgres


@lru_cache(maxsize=1)
def _template() -> str:
    """A migrated database that others are copied from."""
    _create("pattern")
    url = _url("pattern")

    async def make() -> None:
        database = Database(url)
        await migrate(database)
        await database.close()

    asyncio.run(make())
    return "pattern"


def _url(name: str) -> str:
    return server().url.rpartition("/")[0] + f"/{name}"


def _create(name: str, template: str = "template1") -> None:
    with psycopg.connect(plain_url(server().url), autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {name} TEMPLATE {template}")


def empty_database() -> str:
    """The address of a database without tables."""
    name = f"empty_{next(_numbers)}"
    _create(name)
    return _url(name)


def fresh_database() -> str:
    """The address of a migrated database with nothing in it."""
    name = f"test_{next(_numbers)}"
    _create(name, _template())
    return _url(name)


class DatabaseTest(unittest.IsolatedAsyncioTestCase):
    """A test with a database of its own."""

    def setUp(self) -> None:
        self.url = fresh_database()

    async def asyncSetUp(self) -> None:
        # unittest's loops keep a traceback for everything that is called later, which is slow.
        asyncio.get_running_loop().set_debug(False)
        self.database = Database(self.url, connections=5)
        self.addAsyncCleanup(self.database.close)
