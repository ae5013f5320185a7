"""Stored sound."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import ColumnElement, delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.base import new_id
from fond_echo.contract.clip import ClipRef, NewClip
from fond_echo.core.caching import Recent
from fond_echo.store.blobs import BlobStore, PostgresBlobs
from fond_echo.store.database import Database
from fond_echo.store.errors import MissingClip, TurnErased
from fond_echo.store.records import ClipRecord, Turn

CACHED_BYTES = 12 * 2**20


async def stored(
    session: AsyncSession,
    blobs: BlobStore,
    data: bytes,
    media_type: str,
    origin: str,
    *,
    turn_id: str | None = None,
    clip_id: str | None = None,
    seconds: float | None = None,
    rate: int | None = None,
    waveform: Sequence[float] = (),
) -> ClipRecord:
    """Store sound in the session's transaction.

    Args:
        turn_id: the turn that it belongs to, and is erased with.
        clip_id: the clip's id, where it is settled already.
        seconds, rate, waveform: of the sound, where they are known.
    """
    digest = await blobs.put(session, data)
    record = ClipRecord(
        id=clip_id or new_id(),
        turn_id=turn_id,
        digest=digest,
        media_type=media_type,
        size=len(data),
        origin=origin,
        seconds=seconds,
        rate=rate,
        waveform=list(waveform),
    )
    session.add(record)
    await session.flush()
    return record


async def delete_clips(session: AsyncSession, blobs: BlobStore, which: ColumnElement[bool]) -> int:
    """Delete clips, and bytes that nothing else uses; gives how many clips."""
    gone = delete(ClipRecord).where(which).returning(ClipRecord.digest)
    digests = (await session.execute(gone)).scalars().all()
    await blobs.release(session, digests)
    return len(digests)


class ClipStore:
    """Keeps and gives sound. What was kept or read lately stays in memory, because the next
    stage of the same turn wants it."""

    def __init__(self, database: Database, blobs: BlobStore | None = None) -> None:
        self._database = database
        self._blobs = blobs or PostgresBlobs()
        self._recent: Recent[str, bytes] = Recent(CACHED_BYTES, len)

    async def keep(
        self,
        turn_id: str,
        data: bytes,
        media_type: str,
        origin: str,
        *,
        seconds: float | None = None,
        rate: int | None = None,
        waveform: list[float] | None = None,
    ) -> ClipRef:
        """Store sound of a turn. `origin` says where it comes from: fetched, decoded, spoken,
        encoded.

        Raises:
            TurnErased: whoever erases a turn waits for this, or this sees that it is erased.
        """
        sound = NewClip(data, media_type, origin, seconds, rate, tuple(waveform or ()))
        (kept,) = await self.keep_all(turn_id, [sound])
        return kept

    async def keep_all(self, turn_id: str, sounds: Sequence[NewClip]) -> list[ClipRef]:
        """Store several sounds of a turn at once.

        Raises:
            TurnErased: whoever erases a turn waits for this, or this sees that it is erased.
        """
        kept = []
        async with self._database.writing() as session:
            erased = select(Turn.sound_erased_at).where(Turn.id == turn_id)
            if (await session.execute(erased.with_for_update(read=True))).scalar_one():
                raise TurnErased(f"the turn {turn_id} was erased while it was worked on")
            for each in sounds:
                record = await stored(
                    session, self._blobs, each.data, each.media_type, each.origin,
                    turn_id=turn_id, seconds=each.seconds, rate=each.rate, waveform=each.waveform,
                )  # fmt: skip
                kept.append(record)
            for record, each in zip(kept, sounds, strict=True):
                self._recent.keep(record.id, each.data)
            return [clip_ref(record) for record in kept]

    async def load(self, clip_id: str) -> bytes:
        """The bytes of a clip. Raises MissingClip or MissingBlob."""
        if (known := self._recent.get(clip_id)) is not None:
            return known
        async with self._database.reading() as session:
            record = await session.get(ClipRecord, clip_id)
            if record is None:
                raise MissingClip(f"there is no clip {clip_id}")
            data = await self._blobs.get(session, record.digest)
        self._recent.keep(clip_id, data)
        return data


def clip_ref(record: ClipRecord) -> ClipRef:
    """A stored clip as the API reports it."""
    return ClipRef(
        id=record.id,
        media_type=record.media_type,
        size=record.size,
        seconds=record.seconds,
        rate=record.rate,
        waveform=record.waveform,
        origin=record.origin,
    )
