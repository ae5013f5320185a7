"""Sound that programs asked for: kept while a link to it is valid, counted by key and day."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.base import new_id
from fond_echo.contract.clip import NewClip
from fond_echo.store.access_records import Key, KeyUsage
from fond_echo.store.blobs import BlobStore
from fond_echo.store.clips import stored
from fond_echo.store.errors import QuotaReached
from fond_echo.store.records import Rendition


async def use(
    session: AsyncSession, key_id: str, *, characters: int = 0, seconds: float = 0.0
) -> None:
    """Count what a key uses today (UTC).

    Raises:
        QuotaReached: it would be more than the key may; nothing is counted then.
    """
    key = await session.get_one(Key, key_id)
    today = datetime.now(UTC).date()
    row = insert(KeyUsage).values(key_id=key_id, day=today, characters=characters, seconds=seconds)
    counted = row.on_conflict_do_update(
        index_elements=["key_id", "day"],
        set_={
            "characters": KeyUsage.characters + characters,
            "seconds": KeyUsage.seconds + seconds,
        },
    ).returning(KeyUsage.characters, KeyUsage.seconds)
    used, converted = (await session.execute(counted)).one()
    for what, now, most in (
        ("characters spoken", used, key.characters_a_day),
        ("seconds converted", converted, key.seconds_a_day),
    ):
        if most and now > most:
            raise QuotaReached(
                f"the key {key.name} may have {most:,} {what} a day, and has had {now:,.0f}",
                remedy="wait until midnight UTC, or ask for a key with a higher quota",
            )


async def keep_sound(
    session: AsyncSession, blobs: BlobStore, sound: NewClip, key_id: str, until: datetime
) -> str:
    """Keep a sound while a link to it is valid; gives the id of its clip."""
    record = await stored(session, blobs, sound.data, sound.media_type, sound.origin)
    record.seconds, record.rate = sound.seconds, sound.rate
    record.waveform = list(sound.waveform)
    session.add(Rendition(id=new_id(), clip_id=record.id, key_id=key_id, expires_at=until))
    await session.flush()
    return record.id


async def used_today(session: AsyncSession, key_id: str) -> tuple[int, float]:
    """Characters spoken and seconds converted by a key today (UTC)."""
    wanted = select(
        func.coalesce(func.sum(KeyUsage.characters), 0),
        func.coalesce(func.sum(KeyUsage.seconds), 0),
    ).where(KeyUsage.key_id == key_id, KeyUsage.day == datetime.now(UTC).date())
    characters, seconds = (await session.execute(wanted)).one()
    return int(characters), float(seconds)
