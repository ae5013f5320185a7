"""Words to contacts who have not just asked."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, JsonValue

from fond_echo.contract.base import Schema

MAX_CONTACTS = 1_000


class Addressed(Schema):
    """A contact by its id on the network, with what the words say of it. `conversation` is where it
    is written to; without one, it is where it wrote last."""

    contact: str = Field(min_length=1, max_length=200)
    conversation: str = Field(default="", max_length=200)
    values: dict[str, JsonValue] = Field(default_factory=dict, max_length=50)


class SayIn(Schema):
    """Words for contacts: a template over `values` of each, `contact` and `now`. With
    `spoken_reply` they go out as a voice note, where the network has them. What has the same `key`
    reaches nobody twice."""

    contacts: list[Addressed] = Field(min_length=1, max_length=MAX_CONTACTS)
    text: str = Field(min_length=1, max_length=5_000)
    spoken_reply: bool = False
    key: str = Field(default="", max_length=100)


class SaidTo(Schema):
    """What became of the words for a contact: `sent-on` to its network, as a turn; `said-before`
    with the same key; `opted-out`, `blocked` or `refused`; `unknown` where it never wrote and no
    conversation is given."""

    contact: str
    state: Literal["sent-on", "said-before", "opted-out", "blocked", "refused", "unknown"]
    turn: str = ""


class SayOut(Schema):
    """What became of it for each contact, and the key with which nothing is said twice."""

    key: str
    results: list[SaidTo]
