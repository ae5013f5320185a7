"""Engines as the API tells of them, and what a turn asked of them."""

from __future__ import annotations

import base64
import binascii
from datetime import date
from typing import Any, Literal

from pydantic import Field, field_validator

from fond_echo.contract.base import Instant, Name, Schema

EngineKind = Literal["transcribe", "speak", "answer", "summarize", "translate", "draw", "review"]
AskedOutcome = Literal["done", "failed", "paused", "over-budget"]


class EngineAsked(Schema):
    """One engine, or one logic function on its behalf, that a stage asked: what came of it, how
    long it took, what it cost, and the exchanges as they were made, with secrets struck out;
    `pause_seconds` is for how long it is paused from then on."""

    engine: str
    outcome: AskedOutcome
    kind: Literal["engine", "function"] = "engine"
    seconds: float = 0.0
    cost: float = 0.0
    why: str = ""
    pause_seconds: float = 0.0
    exchanges: list[Any] = Field(default_factory=list)


class EngineIn(Schema):
    """An engine to connect: the text of its connector file, and the values that it asks for."""

    connector: str = Field(min_length=1, max_length=200_000)
    values: dict[str, str] = Field(default_factory=dict, max_length=50)


class EngineDayOut(Schema):
    """What an engine did on a day."""

    day: date
    asked: int
    failed: int
    seconds: float
    cost: float


class EngineOut(Schema):
    """A connected engine, with its last days; `currency` is that of its prices. Where
    `paused_until` is set, it failed lately and is not asked before."""

    name: Name
    does: EngineKind
    connector: str
    values: dict[str, str]
    languages: list[str]
    secrets: list[str]
    currency: str
    daily_budget: float | None
    changed_at: Instant
    last_error: str
    last_error_at: Instant | None
    paused_until: Instant | None = None
    days: list[EngineDayOut]


class EngineTrialIn(Schema):
    """What an engine is asked for a trial: words, or sound in base64 in any format; `to` is the
    language to translate into, `sentences` how many a summary may have. An engine that reviews is
    given the answer as `text` and the question as `brief`."""

    text: str = Field(default="", max_length=4_000)
    brief: str = Field(default="", max_length=20_000)
    sound: str = Field(default="", max_length=14_000_000)
    language: str = Field(default="en", max_length=12)
    to: str = Field(default="", max_length=12)
    sentences: int = Field(default=3, ge=1, le=50)

    @field_validator("sound")
    @classmethod
    def _is_base64(cls, value: str) -> str:
        try:
            base64.b64decode(value, validate=True)
        except binascii.Error as error:
            raise ValueError("sound is not base64") from error
        return value

    @property
    def bytes_of_sound(self) -> bytes:
        """The file."""
        return base64.b64decode(self.sound)


class EngineTrialOut(Schema):
    """What an engine made of it: words, a voice note or a picture in base64; how it was asked, and
    after how long the first sound came."""

    text: str
    sound: str
    picture: str = ""
    picture_type: str = ""
    first_seconds: float = 0.0
    asked: EngineAsked
