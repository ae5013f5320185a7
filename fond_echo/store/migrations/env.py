"""Alembic's entry: the connection is handed in by `fond_echo.store.migrate`."""

from __future__ import annotations

from alembic import context
from sqlalchemy import Connection

from fond_echo.store.calls import Call

connection: Connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Call.metadata, compare_type=True)
with context.begin_transaction():
    context.run_migrations()
