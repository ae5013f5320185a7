"""What the API gives and takes."""

from __future__ import annotations

from typing import Annotated, Any, Generic, Literal, TypeVar

from pydantic import Field

from fond_echo.contract.assistants import FileErrorOut
from fond_echo.contract.base import Instant, JsonObject, Name, Schema, WebAddress
from fond_echo.contract.channel import ChannelKind, ChannelSettings
from fond_echo.contract.clip import ClipRef
from fond_echo.contract.reply import Choice

Item = TypeVar("Item")

Scope = Literal["read", "operate", "build", "admin"]


class Problem(Schema):
    """An error (RFC 9457). `type` leads to its documentation; `errors` are places in a file."""

    type: str
    title: str
    status: int
    detail: str = ""
    remedy: str = ""
    errors: list[FileErrorOut] = Field(default_factory=list)


class Me(Schema):
    """Who is asking. `csrf_token` goes into the X-CSRF-Token header of every change that is made
    with a cookie."""

    name: str
    scopes: list[Scope]
    csrf_token: str = ""
    version: str


class SignInRequest(Schema):
    key: str = Field(min_length=8, max_length=200)


class LoadedAnswer(Schema):
    """An answer of a loaded turn."""

    kind: str = Field(default="text", max_length=20)
    text: str = Field(default="", max_length=40_000)


class LoadedTurn(Schema):
    """A turn of an exported conversation."""

    at: Instant
    arrived_as: str = Field(default="text", max_length=20)
    said: str = Field(default="", max_length=40_000)
    route: str = Field(default="", max_length=60)
    state: str = Field(default="answered", max_length=20)
    answers: list[LoadedAnswer] = Field(default_factory=list, max_length=50)


class LoadIn(Schema):
    """An exported conversation to continue, as a contact of a channel; nothing is sent."""

    contact: str = Field(min_length=1, max_length=100)
    turns: list[LoadedTurn] = Field(min_length=1, max_length=2_000)


class WordsIn(Schema):
    """An operator's own words to a contact."""

    text: str = Field(min_length=1, max_length=4_000)


class AnsweringIn(Schema):
    """Who answers a conversation from now on."""

    by: Literal["assistant", "operator"]


class ChannelIn(Schema):
    """A channel to add or change.

    `connector` is the text of a connector file for a chat or phone channel, the name of an adapter
    for an adapter channel, and empty for an HTTP channel or a public page. Without `settings` a
    channel keeps those that it has.
    """

    kind: ChannelKind = "chat"
    assistant: Name
    connector: str = Field(default="", max_length=1_000_000)
    values: dict[str, str] = Field(default_factory=dict, max_length=50)
    settings: ChannelSettings | None = None


class ChannelOut(Schema):
    """A channel. `address` is where its network posts, programs ask, or guests come; `refused` how
    many contacts it did not let in; `unreadable` how many messages could not be read; `warnings`
    name what in its connector file is valid and probably not meant."""

    name: Name
    kind: str
    assistant: Name
    state: str
    reason: str
    facts: JsonObject
    values: JsonObject
    connector: str
    settings: ChannelSettings
    address: str
    refused: int
    unreadable: int = 0
    warnings: list[str] = Field(default_factory=list)
    created_at: Instant


class UnreadableOut(Schema):
    """A message that could not be read: as the network sent it, and why."""

    id: str
    payload: JsonObject
    reason: str
    received_at: Instant


class RetryIn(Schema):
    """How a turn is tried again: `revision` is the one to answer it with, "live", "draft" or an id;
    without one, it is the live one, as for any new turn."""

    revision: str = Field(default="", max_length=64)


class FailIn(Schema):
    """Why a turn is ended."""

    reason: str = Field(default="", max_length=500)


class DecisionIn(Schema):
    """What happens to a delivery in doubt: it is sent again, counted as sent, or dropped."""

    decision: Literal["retry", "sent", "drop"]


class RewriteIn(Schema):
    """The text that replaces a text that was sent, and its choices."""

    text: str = Field(min_length=1, max_length=20_000)
    choices: list[Choice] = Field(default_factory=list, max_length=20)


class KeyIn(Schema):
    name: str = Field(min_length=1, max_length=60)
    scopes: list[Scope] = Field(min_length=1)
    characters_a_day: int = Field(default=0, ge=0, le=10**9)
    seconds_a_day: int = Field(default=0, ge=0, le=10**9)


class KeyOut(Schema):
    """A key without its value; how much it may have synthesized and converted in a day (0 is
    without limit)."""

    id: str
    name: str
    scopes: list[Scope]
    characters_a_day: int = 0
    seconds_a_day: int = 0
    created_at: Instant
    used_at: Instant | None
    revoked_at: Instant | None


class NewKey(KeyOut):
    """A key that was just made; `key` is shown only now."""

    key: str


class SubscriptionIn(Schema):
    """An address that receives events. `types` are beginnings of event types, an empty list means
    all; `secret` names the secret that signs (whsec_… by the Standard Webhooks scheme)."""

    address: Annotated[WebAddress, Field(min_length=1)]
    types: list[str] = Field(default_factory=list, max_length=50)
    secret: Name


class SubscriptionOut(SubscriptionIn):
    id: str
    waiting: int
    undelivered: int
    created_at: Instant


class UndeliveredEvent(Schema):
    """An event that could not be delivered: its envelope, and the reason."""

    id: str
    event: JsonObject
    state: str
    attempts: int
    error: str
    due_at: Instant


class Dependency(Schema):
    name: str
    ready: bool
    detail: str = ""


class Health(Schema):
    alive: bool
    ready: bool
    dependencies: list[Dependency]


class SecretIn(Schema):
    value: str = Field(min_length=1, max_length=10_000)
    hosts: list[str] = Field(default_factory=list, max_length=50)


class SecretOut(Schema):
    name: Name
    hosts: list[str]
    changed_at: Instant


class ConversationOut(Schema):
    id: str
    channel: Name
    contact: str
    contact_name: str
    turns: int
    answering: str
    changed_at: Instant
    last_text: str = ""


class DeliveryOut(Schema):
    id: str
    kind: str
    state: str
    text: str
    clip: ClipRef | None
    attempts: int
    external_id: str
    exchanges: list[Any] = Field(default_factory=list)
    error: JsonObject | None
    planned_at: Instant
    settled_at: Instant | None


class FileOut(Schema):
    """A picture or another file that came with a message; `refused` says why it was not taken."""

    clip: ClipRef | None = None
    media_type: str = ""
    name: str = ""
    caption: str = ""
    refused: str = ""


class TurnOut(Schema):
    """A turn as lists show it, with the pictures and files that came with it. Erased fields are
    empty, and a time says when the sound, or the text too, was erased. `draft`: the draft answered
    it, as its sender is a tester."""

    id: str
    conversation: str
    channel: Name
    contact_name: str
    number: int
    cause: str
    arrived_as: str
    text: str
    route: str
    state: str
    error: JsonObject | None
    sound: ClipRef | None
    files: list[FileOut] = Field(default_factory=list)
    deliveries: list[DeliveryOut]
    received_at: Instant
    finished_at: Instant | None
    sound_erased_at: Instant | None = None
    erased_at: Instant | None = None
    draft: bool = False


class StageOut(Schema):
    """A stage of a run. Where `erased_at` is set, what went in and came out was erased."""

    name: str
    part: int
    attempt: int
    started_at: Instant
    seconds: float
    outcome: str
    input: JsonObject
    output: JsonObject
    error: JsonObject | None
    erased_at: Instant | None = None


class RunOut(Schema):
    """A run of a turn. Where `revision_erased_at` is set, the revision that answered it
    was erased with somebody's words, and `revision` is what took its place: it cannot be
    replayed."""

    id: str
    kind: str
    revision: str
    revision_erased_at: Instant | None = None
    clock: Instant
    stages: list[StageOut]


class TurnDetail(TurnOut):
    """A turn with everything that was recorded of it."""

    runs: list[RunOut]
    inbound: JsonObject


class Page(Schema, Generic[Item]):
    """A part of a list; `next` asks for what comes after, and is empty at the end."""

    items: list[Item]
    next: str = ""


class EventOut(Schema):
    """A CloudEvents 1.0 envelope."""

    specversion: Literal["1.0"] = "1.0"
    id: str
    source: str
    type: str
    subject: str
    time: Instant
    datacontenttype: Literal["application/json"] = "application/json"
    data: JsonObject


Problem.model_rebuild()
