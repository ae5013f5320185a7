"""What all shapes have in common."""

from __future__ import annotations

import re
import secrets
import time
from dataclasses import dataclass
from datetime import datetime
from typing import Annotated, Any
from uuid import UUID

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    GetCoreSchemaHandler,
    GetJsonSchemaHandler,
    PlainSerializer,
    StringConstraints,
)
from pydantic_core import CoreSchema, core_schema

JsonObject = dict[str, Any]
"""A JSON object whose fields are not ours to say: what an outside service sends or takes, what a
developer remembers of a contact, what is printed."""

MEDIA_TYPE = "application/vnd.fond-echo.v1+json"


class Schema(BaseModel):
    """A shape that refuses fields that it does not know."""

    model_config = ConfigDict(extra="forbid")


_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3_600.0}


def _in_seconds(value: Any) -> Any:
    if not isinstance(value, str):
        return value
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(ms|s|m|h)\s*", value)
    if not match:
        raise ValueError(f"{value!r} is not a length of time; write 500ms, 1s, 2m or 1h")
    return float(match[1]) * _UNITS[match[2]]


Seconds = Annotated[float, BeforeValidator(_in_seconds)]
"""Written as 500ms, 1s, 2m, 1h or a number."""


@dataclass(frozen=True)
class Pattern:
    """Text that is written in a certain way: the whole of it matches a pattern, or `says` tells
    what would be right."""

    pattern: str
    says: str

    def checked(self, text: str) -> str:
        """Raises ValueError."""
        if not re.fullmatch(self.pattern, text):
            raise ValueError(f"{text[:60]!r} is not right: {self.says}")
        return text

    def __get_pydantic_core_schema__(
        self, source: Any, handler: GetCoreSchemaHandler
    ) -> CoreSchema:
        return core_schema.no_info_after_validator_function(self.checked, handler(source))

    def __get_pydantic_json_schema__(
        self, schema: CoreSchema, handler: GetJsonSchemaHandler
    ) -> dict[str, Any]:
        return {**handler(schema), "pattern": f"^(?:{self.pattern})$"}


Name = Annotated[
    str,
    StringConstraints(min_length=2, max_length=60),
    Pattern(
        r"[a-z][a-z0-9]*(-[a-z0-9]+)*",
        "a name has lower-case letters, digits and single dashes, and begins with a letter",
    ),
]
"""What assistants, channels, routes, secrets and the like are called: lower case, with dashes."""

WebAddress = Annotated[
    str, Pattern(r"|https?://\S+", "an address begins with http:// or https://"),
    Field(max_length=2_000),
]  # fmt: skip
"""Where something is asked or told, or nothing."""

Instant = Annotated[datetime, PlainSerializer(lambda at: at.isoformat(), return_type=str)]


def new_id() -> str:
    """A time-ordered identifier (RFC 9562 §5.7, version 7)."""
    milliseconds = time.time_ns() // 1_000_000
    value = milliseconds << 80 | 7 << 76 | secrets.randbits(12) << 64 | 2 << 62
    return str(UUID(int=value | secrets.randbits(62)))
