"""A step of a request: one HTTP exchange, as a person writes it down."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, Field, model_validator

from fond_echo.contract.base import Name, Schema, Seconds
from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.templates import compile_template
from fond_echo.documents.paths import json_path

METHODS = ("get", "post", "put", "patch", "delete", "socket")
BODIES = ("json", "form", "multipart", "bytes")


def _is_path(text: str) -> str:
    json_path(text)
    return text


def filter_path(condition: str) -> str:
    """A condition as a JSONPath over a list with the one value to be judged.

    In a condition `$` and `@` both stand for that value: "$.kind == 'joined'".
    """
    return f"$[?{re.sub(r'[$]', '@', condition)}]"


def _is_condition(text: str) -> str:
    try:
        json_path(filter_path(text))
    except ValueError as error:
        reason = str(error).removeprefix(repr(filter_path(text))).strip()
        reason = reason.removeprefix("is not a JSONPath (RFC 9535): ")
        raise ValueError(f"{text!r} is not a condition (RFC 9535 filter): {reason}") from error
    return text


_IN_TEMPLATE = re.compile(r"\bsecrets\.([a-z][a-z0-9]*(?:-[a-z0-9]+)*)")


def _is_template(text: str) -> str:
    try:
        compile_template(text)
    except TemplateFailed as error:
        raise ValueError(f"the template is wrong: {error.what}") from error
    return text


_PER = {"s": 1.0, "m": 60.0, "h": 3_600.0}
_SIZES = {"B": 1, "kB": 1_000, "KB": 1_000, "MB": 1_000_000, "GB": 1_000_000_000}


def _size(value: Any) -> Any:
    if not isinstance(value, str):
        return value
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(B|kB|KB|MB|GB)\s*", value)
    if not match:
        raise ValueError(f"{value!r} is not a size; write 300kB or 3MB")
    return round(float(match[1]) * _SIZES[match[2]])


def _rate(value: Any) -> Any:
    if not isinstance(value, str):
        return value
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*/\s*(s|m|h)\s*", value)
    if not match:
        raise ValueError(f"{value!r} is not a rate; write 20/s or 100/m")
    return float(match[1]) / _PER[match[2]]


JsonPath = Annotated[str, AfterValidator(_is_path)]
Condition = Annotated[str, AfterValidator(_is_condition)]
TemplateText = Annotated[str, AfterValidator(_is_template)]
Span = Annotated[Seconds, Field(gt=0, le=86_400)]
Size = Annotated[int, BeforeValidator(_size), Field(gt=0)]
"""Bytes; written as 300kB, 3MB or a number."""
Rate = Annotated[float, BeforeValidator(_rate), Field(gt=0)]
"""A second; written as 20/s, 100/m or a number."""


class SecretRef(Schema):
    """`{secret: NAME}`: the value of a secret, and never its text in a file."""

    secret: Name


def secrets_of(connector: Schema, steps: Iterable[Step]) -> set[str]:
    """The names of the secrets that a description refers to: in headers of its steps by
    `{secret: NAME}`, and in templates anywhere."""
    text = connector.model_dump_json(by_alias=True).replace('\\"', '"')
    named = set(_IN_TEMPLATE.findall(text))
    return {name for step in steps for name in step.secrets()} | named


HeaderValue = TemplateText | SecretRef


class Until(Schema):
    """Repeat a step until a value stands in its answer: for work that is done elsewhere.

    `is` ends it well, `fails` badly; `every` between tries, `for` at the most.
    """

    path: JsonPath
    is_: str = Field(alias="is")
    fails: str | None = None
    every: Span = 1.0
    for_: Span = Field(default=60.0, alias="for")


class Stream(Schema):
    """An answer that comes in pieces, so that speaking can begin with its first sentence.

    `as` is events (server-sent events), lines (a JSON document each) or, of a socket, messages (a
    JSON document each); `piece` is where each document has more of the text, all of which is
    `{{ streamed }}` afterwards; `end` is the text of a part that ends it and is no document. What
    the step takes is taken of the last document that has it.
    """

    as_: Literal["events", "lines", "messages"] = Field(alias="as")
    piece: JsonPath
    end: Annotated[str, Field(max_length=100)] = ""


class Step(Schema):
    """One HTTP exchange. Exactly one of the methods; at most one kind of body.

    `socket` opens a WebSocket at an http or https address, sends `json` as the first message, and
    reads messages as `stream` says, or sound with `bytes: true`, until the socket is closed.

    `retry` is how often it is tried again where the service says that it did nothing, or was
    not reached.
    """

    get: TemplateText | None = None
    post: TemplateText | None = None
    put: TemplateText | None = None
    patch: TemplateText | None = None
    delete: TemplateText | None = None
    socket: TemplateText | None = None
    headers: dict[str, HeaderValue] = Field(default_factory=dict)
    query: dict[str, TemplateText] = Field(default_factory=dict)
    body_json: Any = Field(default=None, alias="json")
    form: dict[str, TemplateText] | None = None
    multipart: dict[str, TemplateText] | None = None
    bytes: bool | TemplateText = False
    base64: JsonPath | None = None
    take: dict[str, JsonPath] = Field(default_factory=dict)
    until: Until | None = None
    stream: Stream | None = None
    retry: Annotated[int, Field(ge=0, le=10)] = 0
    timeout: Span = 10.0

    @model_validator(mode="after")
    def _one_exchange(self) -> Step:
        methods = [name for name in METHODS if getattr(self, name) is not None]
        if len(methods) != 1:
            given = " and ".join(methods) or "none"
            raise ValueError(f"a step has exactly one of {', '.join(METHODS)}; given: {given}")
        bodies = [name for name in BODIES if self.body(name) is not None]
        if len(bodies) > 1:
            raise ValueError(f"a step has one body; given: {' and '.join(bodies)}")
        if self.stream is not None and (self.until or self.base64 or self.bytes is True):
            raise ValueError("a step with stream: has no until, base64, or bytes: true")
        messages = self.stream is not None and self.stream.as_ == "messages"
        if messages and self.socket is None:
            raise ValueError("stream: {as: messages} is for a socket")
        if self.socket is not None and not (messages or self.bytes is True):
            raise ValueError("a socket needs stream: {as: messages}, or bytes: true for sound")
        if self.socket is not None and (set(bodies) - {"json"} or self.query):
            raise ValueError("a socket has no body but json, its first message, and no query")
        return self

    @property
    def method(self) -> str:
        return next(name for name in METHODS if getattr(self, name) is not None)

    @property
    def url(self) -> str:
        return str(getattr(self, self.method))

    def body(self, name: str) -> Any:
        """What is given as a kind of body, or None."""
        if name == "json":
            return self.body_json
        if name == "bytes":
            return self.bytes if isinstance(self.bytes, str) else None
        return getattr(self, name)

    def secrets(self) -> Iterator[str]:
        """The names of secrets it refers to by `{secret: NAME}`."""
        for value in self.headers.values():
            if isinstance(value, SecretRef):
                yield value.secret

    def asks_for(self) -> frozenset[str]:
        """The names of the facts that its templates ask for."""
        trees: list[Any] = [self.url, self.query, self.body_json, self.form, self.multipart]
        trees += [self.body("bytes"), [v for v in self.headers.values() if isinstance(v, str)]]
        return frozenset(name for tree in trees for name in names_in(tree))


def names_in(tree: Any) -> frozenset[str]:
    """The names of the facts that the templates of a tree ask for."""
    if isinstance(tree, str):
        try:
            return compile_template(tree).names
        except TemplateFailed:
            return frozenset()
    values: Any = tree.values() if isinstance(tree, dict) else tree
    if isinstance(values, (list, tuple)) or isinstance(tree, dict):
        return frozenset(name for value in values for name in names_in(value))
    return frozenset()
