"""Contacts: who writes or calls on a channel."""

from __future__ import annotations

from typing import Literal

from fond_echo.contract.base import Instant, JsonObject, Name, Schema


class ContactOut(Schema):
    id: str
    channel: Name
    external_id: str
    name: str
    standing: str
    memory: JsonObject
    erased_at: Instant | None
    first_seen_at: Instant


class WordsInRevision(Schema):
    """Where a contact's words stand in a revision of an assistant."""

    assistant: Name
    revision: str
    file: str
    line: int
    what: str
    text: str


class StandingIn(Schema):
    standing: Literal["allowed", "refused", "blocked", "new"]
