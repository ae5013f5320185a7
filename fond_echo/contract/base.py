"""What all shapes have in common."""

from __future__ import annotations

import secrets
import time
from datetime import datetime
from typing import Annotated
from uuid import UUID

from pydantic import BaseModel, ConfigDict, PlainSerializer, StringConstraints

MEDIA_TYPE = "application/vnd.fond-echo.v1+json"


class Shape(BaseModel):
    """A shape that says so when it is given a field it does not know."""

    model_config = ConfigDict(extra="forbid")


Name = Annotated[
    str, StringConstraints(pattern=r"^[a-z][a-z0-9]*(-[a-z0-9]+)*$", min_length=2, max_length=60)
]
"""What assistants, lines, routes, secrets and the like are called: lower case, with dashes."""

Instant = Annotated[datetime, PlainSerializer(lambda at: at.isoformat(), return_type=str)]


def new_id() -> str:
    """A time-ordered identifier (RFC 9562 §5.7, version 7)."""
    milliseconds = time.time_ns() // 1_000_000
    value = milliseconds << 80 | 7 << 76 | secrets.randbits(12) << 64 | 2 << 62
    return str(UUID(int=value | secrets.randbits(62)))
