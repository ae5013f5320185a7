"""A description of an engine: how an outside service is asked to hear, speak, answer, summarize,
translate, draw or review."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from fond_echo.contract.base import JsonObject, Name, Schema
from fond_echo.contract.engine import EngineKind
from fond_echo.core.dialogue.functions import Argument, wrong_fields
from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.templates import compile_template
from fond_echo.documents.address_checks import address_errors
from fond_echo.documents.arrival_checks import BY_ENGINE, arrival_errors
from fond_echo.documents.connector import ClientCredentials
from fond_echo.documents.errors import FileError, InvalidFile
from fond_echo.documents.services import Parameter
from fond_echo.documents.source import Path, Source, read_yaml
from fond_echo.documents.steps import (
    Condition,
    HeaderValue,
    JsonPath,
    Rate,
    SecretRef,
    Size,
    Span,
    Step,
    TemplateText,
    names_in,
    secrets_of,
)
from fond_echo.documents.validate import validated

Money = Annotated[float, Field(ge=0)]


class EngineSound(Schema):
    """The sound that a recognizer takes: longer sound is cut at pauses and sent in parts."""

    format: Literal["wav", "flac", "ogg", "mp3"] = "flac"
    rate: Annotated[int, Field(ge=8_000, le=48_000)] = 16_000
    seconds: Annotated[float, Field(ge=5, le=7_200)] = 60.0
    bytes: Size = 20_000_000


class LiveSound(Schema):
    """A WebSocket on which a recognizer hears sound while it goes on, in calls.

    `first` is what it is sent first, as JSON. Then comes the sound, `every` so long: 16 bits,
    little-endian, at `rate`, one channel; in binary messages, or in JSON as `message` says, where
    `{{ sound }}` is base64. `last` says that all was sent. Of its messages, `partial` has words
    that may still change, `text` words that stay; `done` is true of the last, without which it is
    all when the socket is closed.
    """

    socket: TemplateText
    headers: dict[str, HeaderValue] = Field(default_factory=dict)
    first: Any = None
    rate: Annotated[int, Field(ge=8_000, le=48_000)] = 16_000
    every: Span = 0.1
    message: Any = None
    last: Any = None
    partial: JsonPath | None = None
    text: JsonPath
    confidence: JsonPath | None = None
    done: Condition | None = None
    timeout: Span = 5.0


class Segments(Schema):
    """Where the parts of a transcript stand: `each` is a template that gives a list, the others
    are paths in each; times are in seconds."""

    each: TemplateText
    text: JsonPath
    start: JsonPath
    end: JsonPath


class Calls(Schema):
    """Where an answer says which permitted functions it wants called."""

    each: TemplateText
    name: JsonPath
    arguments: JsonPath
    id: JsonPath | None = None


class Sources(Schema):
    """Where an answer says what it rests on: shown, and not spoken."""

    each: TemplateText
    title: JsonPath
    address: JsonPath | None = None


class Offers(Schema):
    """Where an answer offers what may be said next."""

    each: TemplateText
    label: JsonPath


class EngineResult(Schema):
    """What to make of the facts that the steps took; each is a template over them.

    `cut_off` gives "true" where the answer stops before its end; `confidence` 0 to 1; `remember` an
    object of what to remember of the person, for `remember_days`. Of an engine that answers, `then`
    gives "end", "operator" or "transfer", with a number in `to`; `file` the address of a file that
    goes along; `voice` a voice of the service and `rate` a pace, 0.5 to 2; `route` the name of a
    route of the assistant that is taken in place of the answer, `slots` an object of what it needs.
    Of one that reviews answers, `verdict` is answers, partly, evades, another-subject, unsupported
    or unfilled, and `reason` says why.
    """

    text: TemplateText = ""
    spoken: TemplateText = ""
    confidence: TemplateText = ""
    cut_off: TemplateText = ""
    tokens: TemplateText = ""
    segments: Segments | None = None
    verdict: TemplateText = ""
    reason: TemplateText = ""
    remember: TemplateText = ""
    then: TemplateText = ""
    to: TemplateText = ""
    file: TemplateText = ""
    voice: TemplateText = ""
    rate: TemplateText = ""
    route: TemplateText = ""
    slots: TemplateText = ""
    remember_days: Annotated[int, Field(ge=1, le=3_650)] = 90
    calls: Calls | None = None
    sources: Sources | None = None
    choices: Offers | None = None


ANSWERS = (
    "calls", "sources", "choices", "remember", "then", "to", "file", "voice", "rate", "route",
    "slots",
)  # fmt: skip
"""What only the result of an engine that answers has."""


class Price(Schema):
    """What being asked costs."""

    per_minute: Money = 0.0
    per_character: Money = 0.0
    per_token: Money = 0.0
    per_call: Money = 0.0
    currency: Annotated[str, Field(min_length=3, max_length=3)] = "EUR"


class EngineLimits(Schema):
    """What the service takes, and what it may cost. `timeout` is how long one question may take in
    all; `characters` how long a text to speak, or an answer, may be; `turns` how many turns of the
    conversation before are told; `window` how many characters it may receive in all: the
    oldest turns are left out first, then documents; `daily_budget` is where it is asked no more
    until midnight, UTC."""

    rate: Rate = 30.0
    concurrency: Annotated[int, Field(ge=1, le=100)] = 8
    timeout: Span = 15.0
    characters: Annotated[int, Field(ge=50, le=100_000)] = 4_000
    turns: Annotated[int, Field(ge=0, le=50)] = 8
    window: Annotated[int, Field(ge=500, le=5_000_000)] = 100_000
    daily_budget: Annotated[float, Field(gt=0)] | None = None


class ParameterSpec(Schema):
    """Something that an assistant may set of an engine: what it is where nothing is set, and its
    bounds, or all its values. Steps ask for it by its name."""

    kind: Literal["text", "number", "whole", "boolean"] = "text"
    about: str = Field(default="", max_length=300)
    default: str | int | float | bool
    least: float | None = None
    most: float | None = None
    one_of: list[Annotated[str, Field(max_length=100)]] = Field(
        default_factory=list, max_length=100
    )

    @property
    def argument(self) -> Argument:
        """As it is checked."""
        return Argument(self.kind, self.about, False, tuple(self.one_of), self.least, self.most)

    @model_validator(mode="after")
    def _default_fits(self) -> ParameterSpec:
        for wrong in wrong_fields({"default": self.default}, {"default": self.argument}, "value"):
            raise ValueError(wrong)
        return self


class EngineConnector(Schema):
    """An engine. `languages` are those it knows, all where none are given; `voices` are what the
    service calls the voices of assistants, `default` for all others. `live` is how a recognizer
    hears calls; with nothing else, it hears voice notes in the same way. `parameters` are what an
    assistant may set of it."""

    engine: Name
    does: EngineKind
    languages: list[Annotated[str, Field(min_length=2, max_length=12)]] = Field(
        default_factory=list
    )
    hosts: list[TemplateText] = Field(default_factory=list)
    oauth: ClientCredentials | None = None
    sound: EngineSound = Field(default_factory=EngineSound)
    voices: dict[str, str] = Field(default_factory=dict)
    live: LiveSound | None = None
    parameters: dict[Parameter, ParameterSpec] = Field(default_factory=dict, max_length=30)
    request: Annotated[list[Step], Field(max_length=10)] = Field(default_factory=list)
    result: EngineResult = Field(default_factory=EngineResult)
    price: Price = Field(default_factory=Price)
    limits: EngineLimits = Field(default_factory=EngineLimits)

    def wrong_parameters(self, given: Mapping[str, Any]) -> list[str]:
        """What is wrong with parameters that an assistant sets, in words."""
        known = {name: each.argument for name, each in self.parameters.items()}
        return list(wrong_fields(given, known, "parameter"))

    @model_validator(mode="after")
    def _gives_what_it_does(self) -> EngineConnector:
        if self.live is not None and self.does != "transcribe":
            raise ValueError("live is for an engine that does transcribe")
        if not self.request and self.live is None:
            raise ValueError("an engine needs request: the steps by which it is asked; or live")
        data = any(step.bytes is True or step.base64 for step in self.request)
        if self.does in ("speak", "draw") and not data:
            raise ValueError(
                f"a step of an engine that does {self.does} has bytes: true, or base64: a path"
            )
        words = self.result.text or self.result.segments or not self.request
        if (self.does == "review") != bool(self.result.verdict):
            raise ValueError("result: verdict is for engines that review, and they need it")
        if self.result.reason and self.does != "review":
            raise ValueError("result: reason is for engines that review")
        if self.does not in ("speak", "draw", "review") and not words:
            raise ValueError(f"an engine that does {self.does} needs result: with text")
        result = self.result
        more = [name for name in ANSWERS if getattr(result, name)]
        if self.does != "answer" and more:
            raise ValueError(f"result: {more[0]} is for engines that answer")
        for name, beside in (("to", "then"), ("slots", "route")):
            if getattr(result, name) and not getattr(result, beside):
                raise ValueError(f"result: {name} goes with {beside}")
        return self

    def secrets(self) -> frozenset[str]:
        """The names of all secrets that the file refers to."""
        found = secrets_of(self, self.request)
        headers = self.live.headers.values() if self.live else ()
        found |= {each.secret for each in headers if isinstance(each, SecretRef)}
        if self.oauth:
            found.add(self.oauth.client_secret.secret)
        return frozenset(found)


FACTS: dict[EngineKind, frozenset[str]] = {
    "transcribe": frozenset(("sound", "seconds", "language", "hints")),
    "speak": frozenset(("text", "voice", "language")),
    "answer": frozenset(
        ("text", "marked", "brief", "language", "turns", "passages", "memory", "functions", "calls",
         "characters", "now", "name", "alternatives", "channel", "arrived_as", "confidence",
         "aloud", "attachments")
    ),
    "summarize": frozenset(("text", "language", "sentences", "characters")),
    "translate": frozenset(("text", "language", "to")),
    "draw": frozenset(("text", "language")),
    "review": frozenset(
        ("question", "marked", "answer", "sources", "language", "verdict", "reason", "confidence")
    ),
}  # fmt: skip
"""What the steps of each kind may ask for, beside the engine's own values."""


@lru_cache(maxsize=100)
def read_engine(
    text: str, file: str, values: frozenset[str] = frozenset(("base",))
) -> EngineConnector:
    """Read and check a description of an engine; read ones are kept.

    Args:
        values: the names that are filled in where it is connected.

    Raises:
        InvalidFile: with every error that was found.
    """
    source = read_yaml(text, file)
    connector = validated(source, EngineConnector)
    errors: list[FileError] = []
    always = {*values, "secrets", *({"token"} if connector.oauth else ())}
    for name in sorted(set(connector.parameters) & (always | FACTS[connector.does])):
        what = f"{name} is told already, and cannot be a parameter"
        errors.append(source.error(("parameters", name), what, "give it another name"))
    always |= set(connector.parameters)
    known = always | FACTS[connector.does]
    for number, step in enumerate(connector.request):
        errors += _unfilled(source, ("request", number), step.asks_for(), known)
        errors += address_errors(source, ("request", number), step, values)
        known |= {*step.take, *(["streamed"] if step.stream else [])}
    if connector.request and not errors:
        asked_for = {name for step in connector.request for name in step.asks_for()}
        needed = BY_ENGINE[connector.does]
        errors += arrival_errors(source, ("request",), asked_for, needed, "the request")
    for path, names in _live_names(connector):
        sound = {"sound"} if path[-1] == "message" else set()
        errors += _unfilled(source, path, names, always | sound | {"language", "hints", "rate"})
    for path, template in _templates(connector):
        names = _names(template)
        errors += _unfilled(source, path, names, known if path[0] == "result" else always)
    if errors:
        raise InvalidFile(errors)
    return connector


def _unfilled(
    source: Source, path: Path, names: frozenset[str], known: set[str]
) -> Iterator[FileError]:
    for name in sorted(names - known):
        what = f"nothing fills in {{{{ {name} }}}} here"
        yield source.error(path, what, f"known: {', '.join(sorted(known))}")


def _templates(connector: EngineConnector) -> Iterator[tuple[Path, str]]:
    """Templates outside the steps, with their places."""
    for number, text in enumerate(connector.hosts):
        yield ("hosts", number), text
    if connector.oauth:
        yield ("oauth", "token_url"), connector.oauth.token_url
        yield ("oauth", "client_id"), connector.oauth.client_id
    result = connector.result
    for name, field in EngineResult.model_fields.items():
        if field.annotation is not str:
            continue
        yield ("result", name), getattr(result, name)
    for part in ("segments", "calls", "sources", "choices"):
        if (found := getattr(result, part)) is not None:
            yield ("result", part, "each"), found.each


def _live_names(connector: EngineConnector) -> Iterator[tuple[Path, frozenset[str]]]:
    """What the templates of a live socket ask for, with their places."""
    if (live := connector.live) is not None:
        headers = [each for each in live.headers.values() if isinstance(each, str)]
        for name, tree in (
            ("socket", live.socket), ("headers", headers), ("first", live.first),
            ("message", live.message), ("last", live.last),
        ):  # fmt: skip
            yield ("live", name), names_in(tree)


def _names(template: str) -> frozenset[str]:
    try:
        return compile_template(template).names
    except TemplateFailed:
        return frozenset()


def rendered(template: str, facts: JsonObject) -> Any:
    """A template of the result over the facts; a lone value keeps its type."""
    return compile_template(template).render(facts) if template else ""
