"""Connector files drafted from examples."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, JsonValue

from fond_echo.contract.assistants import FileErrorOut
from fond_echo.contract.base import Name, Schema
from fond_echo.contract.engine import EngineKind

ExampleOf = Literal["request", "text", "voice-note", "fetch", "poll"]


class CaughtIn(Schema):
    """A message that came: its document, what was typed in it ("" for one that was spoken), and of
    a webhook its headers and its body as it came."""

    document: JsonValue
    text: str = Field(default="", max_length=4_000)
    headers: dict[str, str] = Field(default_factory=dict, max_length=100)
    body: str = Field(default="", max_length=1_000_000)


class ConnectorExamples(Schema):
    """What a connector file is drafted from. `examples` are commands of curl: of an engine
    "request", of a network "text", "voice-note", "fetch" and "poll"; or OpenAPI documents, of which
    `operations` name the operation ("POST /say", or its operationId). `answers` are what the
    service answered to them, as JSON, where it is not bytes. `mapping` says what goes to a place
    where the guess is wrong. `token` and `signing_key` are looked for in what is given, and not
    kept."""

    kind: Literal["network"] | EngineKind
    name: Name
    examples: dict[ExampleOf, Annotated[str, Field(max_length=200_000)]]
    operations: dict[ExampleOf, Annotated[str, Field(max_length=300)]] = Field(default_factory=dict)
    answers: dict[ExampleOf, JsonValue] = Field(default_factory=dict)
    messages: list[CaughtIn] = Field(default_factory=list, max_length=3)
    transcript: str = Field(default="", max_length=2_000)
    """What was said in the sound of which the answer is the transcript."""

    secret: Name | None = None
    token: str = Field(default="", max_length=10_000)
    signing_key: str = Field(default="", max_length=10_000)
    mapping: dict[str, str] = Field(default_factory=dict, max_length=100)


class GuessOut(Schema):
    """What goes to a place, and why it is thought so."""

    place: str
    template: str
    evidence: str


class ConnectorDraft(Schema):
    """A connector file with its guesses; the values with which it is connected; the secrets that it
    needs, with the host that each is bound to; the places that stay as the example has them
    (`unchanged`); and what it cannot do. `errors` are what its check finds."""

    connector: str
    values: dict[str, str]
    secrets: dict[str, str]
    guesses: list[GuessOut]
    unchanged: dict[str, str]
    limitations: list[str]
    errors: list[FileErrorOut]
