"""Keys to the API."""

from __future__ import annotations

from typing import Annotated, cast

from fastapi import Path
from sqlalchemy import func, select

from fond_echo.contract.api import KeyIn, KeyOut, NewKey, Scope
from fond_echo.store.access_records import Key
from fond_echo.store.keys import add_key, new_key
from fond_echo.web.access import MayAdmin
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import Conflict, NotFound
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/keys", tags=["keys"])


def _out(record: Key) -> KeyOut:
    return KeyOut(
        id=record.id,
        name=record.name,
        scopes=cast(list[Scope], record.scopes),
        characters_a_day=record.characters_a_day,
        seconds_a_day=record.seconds_a_day,
        created_at=record.created_at,
        used_at=record.used_at,
        revoked_at=record.revoked_at,
    )


@router.get("")
async def list_keys(_: MayAdmin, service: TheService) -> list[KeyOut]:
    """List all keys, without their values."""
    async with service.database.reading() as session:
        rows = (await session.execute(select(Key).order_by(Key.created_at))).scalars()
        return [_out(row) for row in rows]


@router.post("", status_code=201)
async def create_key(given: KeyIn, _: MayAdmin, service: TheService) -> NewKey:
    """Create a key. Its value is shown only now."""
    key = new_key()
    async with service.database.writing() as session:
        quotas = given.characters_a_day, given.seconds_a_day
        key_id = await add_key(session, given.name, given.scopes, key, quotas)
        record = await session.get_one(Key, key_id, populate_existing=True)
        return NewKey(**_out(record).model_dump(), key=key)


@router.delete("/{key_id}")
async def revoke_key(
    key_id: Annotated[str, Path(max_length=60)], bearer: MayAdmin, service: TheService
) -> KeyOut:
    """Revoke a key."""
    if key_id == bearer.key_id:
        raise Conflict("a key does not revoke itself", remedy="use another admin key")
    async with service.database.writing() as session:
        record = await session.get(Key, key_id)
        if record is None:
            raise NotFound(f"there is no key {key_id}")
        if record.revoked_at is None:
            record.revoked_at = func.now()
            await session.flush()
            await session.refresh(record)
        return _out(record)
