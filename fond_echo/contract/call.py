"""Calls: what is asked for to place one, and what became of it."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, JsonValue, model_validator

from fond_echo.contract.base import Instant, JsonObject, Name, Schema, WebAddress
from fond_echo.contract.clip import ClipRef

Outcome = Literal["answered", "busy", "no-answer", "rejected", "unreachable", "failed"]
AnsweredBy = Literal["", "person", "machine", "unknown"]
MAX_SOUND = 14_000_000
"""Characters of base64: ten megabytes of sound."""


class Opening(Schema):
    """What is said first in a call that we placed, one of: the greeting of an `assistant`; a
    `text`; a `sound` (a file in base64, any container); an `address` that is requested when the
    call is answered, and returns text, a reply as JSON, or a sound file."""

    assistant: Name | None = None
    text: str = Field(default="", max_length=5_000)
    sound: str = Field(default="", max_length=MAX_SOUND)
    address: WebAddress = ""

    @model_validator(mode="after")
    def _one(self) -> Opening:
        given = (self.assistant, self.text.strip(), self.sound, self.address)
        if sum(map(bool, given)) != 1:
            raise ValueError("an opening is one of assistant, text, sound, address")
        return self


class RetryPlan(Schema):
    """How often, after how long, and after which outcomes a call is tried again."""

    times: int = Field(ge=1, le=20)
    after_seconds: int = Field(default=600, ge=1, le=7 * 86_400)
    outcomes: list[Outcome] = Field(default=["busy", "no-answer"], min_length=1)


class CallIn(Schema):
    """A call to be placed.

    `caller` is the number of ours that is shown (the channel's first, where it is empty).
    `variables` are there for the assistant as the conversation's own. After the opening an
    assistant talks on; other openings end the call, unless `afterwards` says otherwise. Where a
    answering machine answers, the opening is left on it, or the call is ended. `asked_by` is the
    turn in which somebody asked for it; they are told the outcome.
    """

    to: str = Field(min_length=1, max_length=60)
    opening: Opening
    caller: str = Field(default="", max_length=60)
    name: str = Field(default="", max_length=100)
    variables: dict[str, JsonValue] = Field(default_factory=dict)
    afterwards: Literal["", "talk", "end"] = ""
    on_answering_machine: Literal["speak", "hang-up"] = "speak"
    retry: RetryPlan | None = None
    asked_by: str = Field(default="", max_length=60)

    @property
    def talks_on(self) -> bool:
        """Whether the assistant listens once the opening was said."""
        return (self.afterwards or ("talk" if self.opening.assistant else "end")) == "talk"


class Attempt(Schema):
    """One try of a call."""

    at: Instant
    outcome: str
    status: int = 0


class Happening(Schema):
    """An event of a call: what happened, and how many seconds after the answer (null before it)."""

    at: float | None
    kind: str
    about: JsonObject = Field(default_factory=dict)


class CallOut(Schema):
    """A call as lists show it."""

    id: str
    channel: Name
    direction: Literal["in", "out"]
    caller: str
    number: str
    state: Literal["requested", "dialing", "ringing", "answered", "ended"]
    cause: str
    by: str
    status: int
    answered_by: AnsweredBy
    attempts: list[Attempt]
    requested_at: Instant
    due_at: Instant | None
    answered_at: Instant | None
    ended_at: Instant | None
    seconds: Annotated[float | None, Field(description="from the answer to the end")]


class Waveforms(Schema):
    """How loud both sides of a call were, 0 to 1, so many times a second."""

    per_second: int
    theirs: list[float]
    ours: list[float]


class CallDetail(CallOut):
    """A call with what happened in it. `conversation` is where its turns are."""

    conversation: str
    timeline: list[Happening]
    quality: JsonObject | None
    recording: ClipRef | None
    waveforms: Waveforms | None = None
