"""Bytes behind one small interface; here in PostgreSQL, in chunks."""

from __future__ import annotations

import hashlib
from typing import Protocol

from sqlalchemy import delete, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.core.errors import FondEchoError
from fond_echo.store.records import Blob, BlobChunk

CHUNK = 256 * 1024


class MissingBlob(FondEchoError):
    """The bytes are not there, or not any more."""

    code = "blob-missing"


class BlobStore(Protocol):
    """Where bytes are kept, addressed by their SHA-256 and counted by use."""

    async def put(self, session: AsyncSession, data: bytes) -> str:
        """Keep bytes, or count one more use of the same; gives their address."""
        ...

    async def get(self, session: AsyncSession, digest: str) -> bytes:
        """Raises MissingBlob."""
        ...

    async def release(self, session: AsyncSession, digest: str) -> None:
        """Count one use less; without any, the bytes are gone."""
        ...


class PostgresBlobs:
    """Blobs as rows of at most 256 KiB."""

    async def put(self, session: AsyncSession, data: bytes) -> str:
        digest = hashlib.sha256(data).hexdigest()
        stored = insert(Blob).values(digest=digest, size=len(data), uses=1)
        counted = stored.on_conflict_do_update(
            index_elements=[Blob.digest], set_={"uses": Blob.uses + 1}
        ).returning(Blob.uses)
        uses = (await session.execute(counted)).scalar_one()
        if uses == 1:
            for number, start in enumerate(range(0, len(data), CHUNK)):
                chunk = BlobChunk(digest=digest, number=number, data=data[start : start + CHUNK])
                session.add(chunk)
            await session.flush()
        return digest

    async def get(self, session: AsyncSession, digest: str) -> bytes:
        wanted = select(BlobChunk.data).where(BlobChunk.digest == digest)
        rows = (await session.execute(wanted.order_by(BlobChunk.number))).scalars().all()
        size = (
            await session.execute(select(Blob.size).where(Blob.digest == digest))
        ).scalar_one_or_none()
        data = b"".join(rows)
        if size is None or len(data) != size:
            raise MissingBlob(f"the bytes {digest[:12]} are not stored")
        return data

    async def release(self, session: AsyncSession, digest: str) -> None:
        counted = update(Blob).where(Blob.digest == digest).values(uses=Blob.uses - 1)
        await session.execute(counted)
        await session.execute(delete(Blob).where(Blob.digest == digest, Blob.uses <= 0))
