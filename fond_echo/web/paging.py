"""Lists by cursor: a place in an order, as an opaque text."""

from __future__ import annotations

import base64
import binascii
import json
from datetime import datetime
from typing import Annotated

from fastapi import Query
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.store.calls import Call
from fond_echo.store.records import Conversation, Turn
from fond_echo.web.errors import BadCursor

Limit = Annotated[int, Query(ge=1, le=200, description="how many at most")]
Cursor = Annotated[str, Query(max_length=300, description="`next` of the page before")]


SHORT = 12
"""Characters of an id's end by which it is found too: lists in a terminal show no more."""


async def whole_id(session: AsyncSession, record: type[Turn | Call | Conversation], id: str) -> str:
    """The id that a short one is the end of; the latest, where several are, and the same where it
    is none."""
    if len(id) != SHORT:
        return id
    wanted = select(record.id).where(func.right(record.id, SHORT) == id).order_by(record.id.desc())
    return (await session.execute(wanted.limit(1))).scalar_one_or_none() or id


def next_cursor(at: datetime, id: str) -> str:
    """The place of an item in a list ordered by time, then id."""
    raw = json.dumps([at.isoformat(), id]).encode()
    return base64.urlsafe_b64encode(raw).decode().rstrip("=")


def place(text: str) -> tuple[datetime, str] | None:
    """The place behind a cursor; None for the beginning."""
    if not text:
        return None
    try:
        at, id = json.loads(base64.urlsafe_b64decode(text + "=" * (-len(text) % 4)))
        return datetime.fromisoformat(at), str(id)
    except (ValueError, TypeError, binascii.Error) as error:
        raise BadCursor("the cursor is not one of this list's") from error
