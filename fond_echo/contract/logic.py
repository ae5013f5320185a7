"""What business logic is sent, and what it answers (a `Reply`)."""

from __future__ import annotations

from pydantic import Field, JsonValue

from fond_echo.contract.base import Instant, Name, Schema
from fond_echo.contract.turn import ArrivedAs, Cause, Heard, RunKind


class SentFile(Schema):
    """A picture or another file that came with a message. `url` gives its bytes without a key for
    a day."""

    url: str
    media_type: str
    size: int
    name: str = ""
    caption: str = ""


class LogicTurn(Schema):
    """What was said. `text` is always there; how it came is a fact beside it. `sound` is the clip
    that it came as; `recorded` says that it is a message that the route asked for; `quoted` are
    the words of the message that it quotes; `attachments` are pictures and files that came with it,
    where the assistant takes them."""

    id: str
    text: str
    cause: Cause = "inbound"
    arrived_as: ArrivedAs = "text"
    language: str = "en"
    heard: Heard | None = None
    sound: str = ""
    recorded: bool = False
    quoted: str = ""
    attachments: list[SentFile] = Field(default_factory=list)


class LogicContact(Schema):
    """Who said it."""

    id: str
    name: str = ""
    channel: Name


class Exchange(Schema):
    """One of the last turns: what was said, and what was answered."""

    said: str
    answered: str


class LogicConversation(Schema):
    """Where it was said."""

    id: str
    turns: int = Field(ge=1)
    """How many turns there have been, this one included."""

    recent: list[Exchange] = Field(default_factory=list)
    variables: dict[str, JsonValue] = Field(default_factory=dict)


class LogicRequest(Schema):
    """One question to business logic, signed by the Standard Webhooks scheme.

    `action` is what the route asks for; a service that serves several answers by it. `call` is the
    id of this question, and of its message: every other question has another one, and the same
    question that is asked again, since its answer was lost, has the same. `draft`: a tester asks,
    whom the assistant's draft answers.
    """

    action: str
    call: str = ""
    route: str
    assistant: Name
    run: RunKind = "live"
    draft: bool = False
    now: Instant
    turn: LogicTurn
    slots: dict[str, JsonValue] = Field(default_factory=dict)
    contact: LogicContact
    memory: dict[str, JsonValue] = Field(default_factory=dict)
    conversation: LogicConversation
