"""A whole database as text, to look for what should not be in it."""

from __future__ import annotations

from sqlalchemy import text

from fond_echo.store.database import Database


async def dumped(database: Database) -> str:
    """Every row of every table but those of assistants, bytes as text where they are text."""
    found = []
    async with database.reading() as session:
        tables = text("SELECT tablename FROM pg_tables WHERE schemaname = 'public' ORDER BY 1")
        for table in (await session.execute(tables)).scalars().all():
            if table in ("assistants", "revisions"):
                continue
            rows = await session.execute(text(f'SELECT * FROM "{table}"'))
            found += [f"{table}: {[_shown(each) for each in row]}" for row in rows]
    return "\n".join(found)


def _shown(value: object) -> object:
    return bytes(value).decode("latin-1") if isinstance(value, (bytes, memoryview)) else value
