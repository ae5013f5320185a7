"""Migrations, run at start under an advisory lock; a newer database is refused."""

from __future__ import annotations

import math
import re
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, text

from fond_echo.store import queue_schema
from fond_echo.store.database import Database
from fond_echo.store.errors import NewerDatabase, OlderDatabase

LOCK = 5_772_156_649


_NUMBERED = re.compile(r"0001|records(\d+)")
"""What revisions are called until the first release."""


def _number(revision: str) -> float:
    found = _NUMBERED.fullmatch(revision)
    return int(found[1] or 1) if found else math.inf


def _config(connection: Connection) -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["connection"] = connection
    return config


def _upgrade(connection: Connection) -> None:
    connection.execute(text("SELECT pg_advisory_xact_lock(:lock)"), {"lock": LOCK})
    config = _config(connection)
    known = {script.revision for script in ScriptDirectory.from_config(config).walk_revisions()}
    current = MigrationContext.configure(connection).get_current_revision()
    if current is not None and _number(current) < min(map(_number, known)):
        raise OlderDatabase(
            f"the database is at revision {current}, from before the first release, and its tables "
            "are others now",
            remedy="begin with an empty one: name another in FOND_ECHO_DATABASE, or for the demo "
            "say --fresh; recordings and assistants can be fetched before with the version that "
            "made it",
        )
    if current is not None and current not in known:
        raise NewerDatabase(
            f"the database is at revision {current}, which this version does not know",
            remedy="run the newer version of Fond Echo that made it",
        )
    command.upgrade(config, "head")
    queue_schema.upgrade(connection)


async def migrate(database: Database) -> None:
    """Bring a database to this version, the queue's tables among them.

    Several processes may do this at once: one migrates, the others wait for it.
    """
    async with database.engine.begin() as connection:
        await connection.run_sync(_upgrade)
