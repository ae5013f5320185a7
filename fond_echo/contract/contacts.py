"""Contacts: who writes or calls on a channel."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from fond_echo.contract.base import Instant, JsonObject, Name, Schema


class ContactOut(Schema):
    id: str
    channel: Name
    external_id: str
    name: str
    standing: str
    tester: bool = False
    opted_out: bool = False
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


class TesterIn(Schema):
    """Who is to be answered by the draft."""

    contact: str = Field(min_length=1, max_length=200, description="its id on the network")
    name: str = Field(default="", max_length=200)


class OptedOutIn(Schema):
    """Whether a contact wants to be written to first no more."""

    opted_out: bool


class StandingIn(Schema):
    standing: Literal["allowed", "refused", "blocked", "new"]
