"""What a conversation is at between two turns: one model, stored as JSON."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from pydantic import Field

from fond_echo.contract.base import Schema
from fond_echo.contract.logic import Exchange
from fond_echo.contract.reply import Reply
from fond_echo.core.dialogue.slots import Open

OPEN = timedelta(hours=12)
"""In a chat, a question may be answered so much later."""


class Asked(Schema):
    """Routes that are asked about ("did you mean"), and the words that it was for."""

    routes: list[str]
    text: str


class OpenSlots(Schema):
    """A route whose slots are being asked for; `filled` has each value with the words it was."""

    route: str
    filled: dict[str, tuple[Any, str]] = Field(default_factory=dict)
    asking: str = ""
    confirming: bool = False
    tries: int = 0
    half: str = ""

    def as_core(self) -> Open:
        """As the dialogue takes it."""
        return Open.from_json(self.model_dump())


class Recording(Schema):
    """A message that is to be recorded next: what its route is, how long it may be."""

    route: str
    seconds: float
    since: datetime


class Done(Schema):
    """What business logic was asked to do in the last turn, and what takes that back; `undo` is
    empty where nothing does."""

    route: str
    slots: dict[str, Any] = Field(default_factory=dict)
    undo: str = ""


class WishedCall(Schema):
    """A function that an engine wants called once the person has said yes: for which question, and
    in which route's free answer."""

    route: str
    name: str
    arguments: dict[str, Any] = Field(default_factory=dict)
    question: str


class ConversationState(Schema):
    """A conversation's state.

    `open`, `meant`, `since` and `revision` are a question that was asked, and in which revision;
    `wished` is a function that was asked about;
    `offered` the phrases that "did you say" was asked about;
    `announced_at` when it is said in a conference what was asked for with the last turn;
    `more` what is left to say of a long answer, where the person was asked whether to go on;
    `choices` what was offered; `recent` the last turns; `last` the answer as it would be given
    again; `brief` the one that the engine handed the talk to; `done` what the last turn changed
    elsewhere; `assistant` another one than the channel's; `transfer` a number that a call is
    transferred to; `not_understood` counts turns of a call in a row that nothing took.
    """

    open: OpenSlots | None = None
    meant: Asked | None = None
    offered: list[str] = Field(default_factory=list)
    wished: WishedCall | None = None
    more: str = ""
    announced_at: datetime | None = None
    since: datetime | None = None
    revision: str = ""
    recording: Recording | None = None
    transfer: str = ""
    brief: str = ""
    not_understood: int = 0
    choices: list[str] = Field(default_factory=list)
    variables: dict[str, Any] = Field(default_factory=dict)
    recent: list[Exchange] = Field(default_factory=list)
    last: Reply | None = None
    done: Done | None = None
    assistant: str = ""
    ended: bool = False

    @classmethod
    def read(cls, stored: Mapping[str, Any]) -> ConversationState:
        """A state as it was stored. Raises ValidationError where it is not one."""
        return cls.model_validate(stored)

    def stored(self) -> dict[str, Any]:
        """As it is stored: what is as in the beginning is left out."""
        return self.model_dump(mode="json", exclude_defaults=True)

    def asks(self, now: datetime) -> bool:
        """Whether what was asked may still be answered."""
        return _lately(self.since, now)

    def announces(self, now: datetime) -> bool:
        """Whether what is to be announced was not said yet."""
        return self.announced_at is not None and now < self.announced_at

    def records(self, now: datetime) -> Recording | None:
        """The message that is still waited for."""
        recording = self.recording
        return recording if recording is not None and _lately(recording.since, now) else None

    def pinned(self, live: str, now: datetime) -> str:
        """The revision that a turn is worked with: the one that asked, while its question is
        open."""
        open_ = self.open is not None or self.wished is not None
        return self.revision if open_ and self.asks(now) else live


def _lately(since: datetime | None, now: datetime) -> bool:
    return since is not None and now - since < OPEN
