"""Clips: what they are, and their sound."""

from __future__ import annotations

import re
from typing import Annotated

from fastapi import Header, Path, Response

from fond_echo.contract.clip import SENT_FILE, ClipRef
from fond_echo.store.clips import clip_ref
from fond_echo.store.records import ClipRecord
from fond_echo.web.access import MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import NotFound
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/clips", tags=["clips"])

ClipId = Annotated[str, Path(max_length=60)]
_RANGE = re.compile(r"bytes=(\d{0,18})-(\d{0,18})", re.ASCII)


@router.get("/{clip_id}")
async def get_clip(clip_id: ClipId, _: MayRead, service: TheService) -> ClipRef:
    """Get the format and the length of a clip."""
    async with service.database.reading() as session:
        record = await session.get(ClipRecord, clip_id)
    if record is None:
        raise NotFound(f"there is no clip {clip_id}")
    return clip_ref(record)


@router.get("/{clip_id}/sound")
async def get_sound(
    clip_id: ClipId,
    _: MayRead,
    service: TheService,
    range: Annotated[str | None, Header()] = None,
) -> Response:
    """Get a clip's bytes, or a range of them (RFC 9110 §14.2)."""
    return await sound_response(service, await get_clip(clip_id, _, service), range)


SHOWN = frozenset(("image/png", "image/jpeg", "image/gif", "image/webp"))
"""Kinds of pictures that a browser may show: none of them can hold a program."""


async def sound_response(service: Service, ref: ClipRef, range: str | None) -> Response:
    """The answer with a clip's bytes, or with a range of them."""
    data = await service.clips.load(ref.id)
    headers = {
        "Accept-Ranges": "bytes",
        "Cache-Control": "private, max-age=86400, immutable",
        "Content-Disposition": "inline",
        "X-Content-Type-Options": "nosniff",
    }
    media_type = ref.media_type if ref.media_type.startswith("audio/") else "audio/ogg"
    if ref.media_type in SHOWN:
        media_type = ref.media_type
    elif ref.media_type == "application/pdf" or ref.origin == SENT_FILE:
        # Whatever somebody sent: it is saved, and no browser opens it as one of our pages.
        media_type, headers["Content-Disposition"] = ref.media_type, "attachment"
    requested = _RANGE.fullmatch(range or "")
    if not requested or requested[0] == "bytes=-":
        return Response(data, media_type=media_type, headers=headers)
    start, end = _bounds(requested[1], requested[2], len(data))
    if start >= len(data) or end < start:
        headers["Content-Range"] = f"bytes */{len(data)}"
        return Response(status_code=416, headers=headers)
    headers["Content-Range"] = f"bytes {start}-{end}/{len(data)}"
    return Response(data[start : end + 1], status_code=206, media_type=media_type, headers=headers)


def _bounds(first: str, last: str, size: int) -> tuple[int, int]:
    if not first:
        return max(0, size - int(last)), size - 1
    return int(first), min(int(last) if last else size - 1, size - 1)
