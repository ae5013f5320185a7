"""Sound and files behind signed links, which need no key."""

from __future__ import annotations

import hmac
import re
import time
from typing import Annotated

from fastapi import Header, Path, Query, Response

from fond_echo.signed_links import signature
from fond_echo.store.clips import clip_ref
from fond_echo.store.records import ClipRecord
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.clips import sound_response
from fond_echo.web.errors import LinkExpired, LinkForged, NotFound
from fond_echo.web.service import TheService

router = CheckedRouter(tags=["clips"])

_SIGNED = re.compile(r"[0-9a-f]{40}")


@router.head("/sound/{clip_id}", include_in_schema=False)
@router.get("/sound/{clip_id}")
async def play_sound(
    clip_id: Annotated[str, Path(max_length=60)],
    service: TheService,
    until: Annotated[int, Query(ge=0, le=10**11)],
    sign: Annotated[str, Query(max_length=100)],
    range: Annotated[str | None, Header()] = None,
) -> Response:
    """Play a clip by a signed link: no key is needed while it is valid."""
    wanted = signature(service.settings, clip_id, until)
    if not _SIGNED.fullmatch(sign) or not hmac.compare_digest(sign.encode(), wanted.encode()):
        raise LinkForged("this link was not made here", remedy="ask for a new one")
    if until < time.time():
        raise LinkExpired("this link has expired", remedy="ask for a new one")
    async with service.database.reading() as session:
        record = await session.get(ClipRecord, clip_id)
    if record is None:
        raise NotFound("the sound of this link is gone")
    return await sound_response(service, clip_ref(record), range)
