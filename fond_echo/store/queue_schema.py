"""The queue library's schema: vendored as it was with the first migration, and brought to the
version of the library that is installed, so that a later release of it upgrades old databases too.

The library numbers its changes by names that sort (`03.04.00_50_post_…`); which one a database has
is kept in the table `queue_schema`.
"""

from __future__ import annotations

from importlib import resources
from pathlib import Path

from sqlalchemy import Connection, text

from fond_echo.store.errors import NewerQueue

FIRST = "03.04.00_50"
"""The last of the library's changes that the vendored schema holds."""

VENDORED = Path(__file__).parent / "migrations" / "queue" / f"schema-{FIRST}.sql"
LIBRARY = "procrastinate.sql.migrations"


def begin(connection: Connection) -> None:
    """Make the queue's tables as they were first, in a new database."""
    _run(connection, VENDORED.read_text("utf-8"))
    connection.execute(text("CREATE TABLE queue_schema (version text NOT NULL)"))
    connection.execute(text("INSERT INTO queue_schema VALUES (:version)"), {"version": FIRST})


def changes(package: str = LIBRARY) -> dict[str, str]:
    """The library's changes by their versions, in order."""
    found = {}
    for file in sorted(resources.files(package).iterdir(), key=lambda each: each.name):
        if file.name.endswith(".sql"):
            number, step, *_ = file.name.split("_")
            found[f"{number}_{step}"] = file.read_text("utf-8")
    return found


def upgrade(connection: Connection, known: dict[str, str] | None = None) -> list[str]:
    """Bring the queue's tables to the library's version; gives the changes that were made.

    Args:
        known: the library's changes, where they are not those of the one that is installed.

    Raises:
        NewerQueue: a newer library made them.
    """
    known = changes() if known is None else known
    version = str(connection.execute(text("SELECT version FROM queue_schema")).scalar_one())
    if version > max(known):
        raise NewerQueue(
            f"the queue's tables are at {version}, the library that is installed knows "
            f"{max(known)}",
            remedy="install what requirements.lock says of the version that made them",
        )
    made = [each for each in known if each > version]
    for each in made:
        _run(connection, known[each])
    if made:
        connection.execute(
            text("UPDATE queue_schema SET version = :version"), {"version": made[-1]}
        )
    return made


def _run(connection: Connection, statements: str) -> None:
    """Several statements, sent as they are."""
    connection.exec_driver_sql(statements.replace("%", "%%"))
