"""Alembic's entry: the connection is handed in by `fond_echo.store.migrate`."""

from __future__ import annotations

from alembic import context
from sqlalchemy import Connection

from fond_echo.store.schema import METADATA

connection: Connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=METADATA, compare_type=True)
with context.begin_transaction():
    context.run_migrations()
