"""Stored sound."""

from __future__ import annotations

from collections import OrderedDict

from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.clip import ClipRef
from fond_echo.core.errors import FondEchoError
from fond_echo.store.blobs import BlobStore, PostgresBlobs
from fond_echo.store.database import Database
from fond_echo.store.records import ClipRecord

CACHED_BYTES = 12 * 2**20


class MissingClip(FondEchoError):
    """There is no clip of that id."""

    code = "clip-missing"


async def stored(
    session: AsyncSession, blobs: BlobStore, data: bytes, media_type: str, origin: str
) -> ClipRecord:
    """Store sound in the session's transaction."""
    digest = await blobs.put(session, data)
    record = ClipRecord(digest=digest, media_type=media_type, size=len(data), origin=origin)
    session.add(record)
    await session.flush()
    return record


class ClipStore:
    """Keeps and gives sound. What was kept or read lately stays in memory, because the next
    stage of the same turn wants it."""

    def __init__(self, database: Database, blobs: BlobStore | None = None) -> None:
        self._database = database
        self._blobs = blobs or PostgresBlobs()
        self._recent: OrderedDict[str, bytes] = OrderedDict()
        self._size = 0

    async def keep(
        self,
        data: bytes,
        media_type: str,
        origin: str,
        *,
        seconds: float | None = None,
        rate: int | None = None,
        waveform: list[float] | None = None,
    ) -> ClipRef:
        """Store sound. `origin` says where it comes from: fetched, decoded, spoken, encoded."""
        async with self._database.writing() as session:
            record = await stored(session, self._blobs, data, media_type, origin)
            record.seconds, record.rate, record.waveform = seconds, rate, waveform or []
            await session.flush()
            self._remember(record.id, data)
            return clip_ref(record)

    async def load(self, clip_id: str) -> bytes:
        """The bytes of a clip. Raises MissingClip or MissingBlob."""
        if clip_id in self._recent:
            self._recent.move_to_end(clip_id)
            return self._recent[clip_id]
        async with self._database.reading() as session:
            record = await session.get(ClipRecord, clip_id)
            if record is None:
                raise MissingClip(f"there is no clip {clip_id}")
            data = await self._blobs.get(session, record.digest)
        self._remember(clip_id, data)
        return data

    def _remember(self, clip_id: str, data: bytes) -> None:
        self._size += len(data) - len(self._recent.get(clip_id, b""))
        self._recent[clip_id] = data
        while self._size > CACHED_BYTES and self._recent:
            self._size -= len(self._recent.popitem(last=False)[1])


def clip_ref(record: ClipRecord) -> ClipRef:
    """A stored clip as it is told of."""
    return ClipRef(
        id=record.id,
        media_type=record.media_type,
        size=record.size,
        seconds=record.seconds,
        rate=record.rate,
        waveform=record.waveform,
        origin=record.origin,
    )
