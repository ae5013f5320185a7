"""Lists by cursor: a place in an order, as an opaque text."""

from __future__ import annotations

import base64
import binascii
import json
from datetime import datetime
from typing import Annotated

from fastapi import Query

from fond_echo.core.errors import FondEchoError

Limit = Annotated[int, Query(ge=1, le=200, description="how many at most")]
After = Annotated[str, Query(max_length=300, description="`next` of the page before")]


class BadCursor(FondEchoError):
    """A cursor that was not given by this list."""

    code = "cursor"


def cursor(at: datetime, id: str) -> str:
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
