"""Words to contacts who have not just asked."""

from __future__ import annotations

import re
from datetime import datetime
from typing import Literal

from pydantic import Field, JsonValue, field_validator

from fond_echo.contract.base import Instant, Schema

_SPAN = re.compile(r"([01]\d|2[0-3]):[0-5]\d-([01]\d|2[0-3]):[0-5]\d")
MAX_CONTACTS = 1_000


class Addressed(Schema):
    """A contact by its id on the network, with what the words say of it. `conversation` is where it
    is written to; without one, it is where it wrote last."""

    contact: str = Field(min_length=1, max_length=200)
    conversation: str = Field(default="", max_length=200)
    values: dict[str, JsonValue] = Field(default_factory=dict, max_length=50)


class SayIn(Schema):
    """Words for contacts: a template over `values` of each, `contact` and `now`. With
    `spoken_reply` they go out as a voice note, where the network has them. What has the same
    `idempotency_key` reaches nobody twice. `at` is when, in the time zone `zone` where it has none
    of its own; in the `quiet` hours of that zone ("21:00-08:00") nothing goes out: it is scheduled
    for their end. Without `zone`, it is that of the assistant's hours."""

    contacts: list[Addressed] = Field(min_length=1, max_length=MAX_CONTACTS)
    text: str = Field(min_length=1, max_length=5_000)
    spoken_reply: bool = False
    idempotency_key: str = Field(default="", max_length=100)
    at: datetime | None = None
    zone: str = Field(default="", max_length=60)
    quiet: str = Field(default="", max_length=11)

    @field_validator("quiet")
    @classmethod
    def _is_a_span(cls, value: str) -> str:
        if value and not _SPAN.fullmatch(value):
            raise ValueError("write quiet hours as 21:00-08:00")
        return value


class SaidTo(Schema):
    """What becomes of the words for a contact: `queued` for now; `scheduled` for `due_at`;
    `duplicate` with the same key; `opted-out`, `blocked` or `refused`; `unknown` where it never
    wrote and no conversation is given."""

    contact: str
    state: Literal["queued", "scheduled", "duplicate", "opted-out", "blocked", "refused", "unknown"]
    due_at: Instant | None = None


class ScheduledOut(Schema):
    """Words that are scheduled."""

    contact: str
    key: str
    text: str
    spoken: bool
    due_at: Instant


class SayOut(Schema):
    """What became of it for each contact, and the key with which nothing is said twice."""

    idempotency_key: str
    results: list[SaidTo]
