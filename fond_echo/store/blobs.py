"""Bytes behind one small interface; here in PostgreSQL, in chunks."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Sequence
from typing import Protocol

from sqlalchemy import delete, select, text
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.store.errors import MissingBlob
from fond_echo.store.records import Blob, BlobChunk

CHUNK = 256 * 1024


class BlobStore(Protocol):
    """Where bytes are kept, addressed by their SHA-256 and counted by use."""

    async def put(self, session: AsyncSession, data: bytes) -> str:
        """Keep bytes, or count one more use of the same; gives their address."""
        ...

    async def get(self, session: AsyncSession, digest: str) -> bytes:
        """Raises MissingBlob."""
        ...

    async def release(self, session: AsyncSession, digests: Sequence[str]) -> None:
        """Count one use less for each time that an address is given; without any use left, the
        bytes are gone."""
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

    async def release(self, session: AsyncSession, digests: Sequence[str]) -> None:
        # In one order, so that two who release the same bytes do not wait for each other.
        counts = sorted(Counter(digests).items())
        if not counts:
            return
        addresses, uses = zip(*counts, strict=True)
        await session.execute(_LESS, {"digests": list(addresses), "uses": list(uses)})
        await session.execute(delete(Blob).where(Blob.digest.in_(addresses), Blob.uses <= 0))


_LESS = text(
    """
    WITH less AS (
        SELECT * FROM unnest(CAST(:digests AS text[]), CAST(:uses AS int[])) AS l (digest, uses)
    ), held AS (
        SELECT blobs.digest FROM blobs JOIN less USING (digest) ORDER BY 1 FOR UPDATE OF blobs
    )
    UPDATE blobs SET uses = blobs.uses - less.uses FROM less, held
     WHERE blobs.digest = less.digest AND held.digest = less.digest
    """
)
