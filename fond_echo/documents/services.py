"""What an assistant asks outside of itself: business logic, and engines."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Annotated, Any, Literal, get_args
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import Field, JsonValue, field_validator, model_validator

from fond_echo.contract.base import Name, Schema, WebAddress
from fond_echo.contract.engine import EngineKind
from fond_echo.core.dialogue.functions import Argument, Function
from fond_echo.core.dialogue.hours import Hours, Span, days_of, span_of
from fond_echo.core.language.templates import names_in_tree
from fond_echo.documents.steps import HeaderValue, JsonPath, SecretRef, Stream, TemplateText, Until

Duration = Annotated[float, Field(gt=0, le=60)]


class LogicPoll(Schema):
    """Where a service that answers later is asked whether it is done: `take` are facts of its
    first answer, such as the id of a task, that the address `get` may need; `until` says when it is
    done."""

    take: dict[str, JsonPath] = Field(default_factory=dict)
    get: TemplateText
    until: Until


class Given(Schema):
    """What stands in an answer beside the words, each as a JSONPath; what is not there is left out.

    `spoken` is what is said in place of what is written; `choices` texts to pick from; `remember`
    an object of what to remember of the person, for `remember_days`; `then` "end", "operator" or
    "transfer", with a number in `to`; `file` the address of a file that goes along; `voice` a voice
    of the service and `rate` a pace, 0.5 to 2; `route` the name of a route of the assistant that
    goes on with the turn, `slots` an object of what it needs.
    """

    spoken: JsonPath | None = None
    choices: JsonPath | None = None
    remember: JsonPath | None = None
    remember_days: Annotated[int, Field(ge=1, le=3_650)] = 90
    then: JsonPath | None = None
    to: JsonPath | None = None
    file: JsonPath | None = None
    voice: JsonPath | None = None
    rate: JsonPath | None = None
    route: JsonPath | None = None
    slots: JsonPath | None = None

    @model_validator(mode="after")
    def _go_together(self) -> Given:
        for name, beside in (("to", "then"), ("slots", "route")):
            if getattr(self, name) and not getattr(self, beside):
                raise ValueError(f"{name} goes with {beside}")
        return self


class LogicService(Schema):
    """Business logic to be asked: its address, and the key shared with it.

    `key` is `{secret: NAME}`, or two while a key is changed: questions are signed with both.
    `failed` is what is said when it fails, instead of our own words. In a chat, an answer that
    takes longer than `timeout` is waited for up to `late_seconds` more, and sent when it comes.

    A service that knows nothing of us is asked in its own shape: `request` is the JSON that is
    posted to it, with templates in its texts, and `answer` the place of the words in what comes
    back (a JSONPath), `gives` the places of what else its answers have. It needs no key; `headers`
    may hold secrets. One that answers in pieces is
    read as `stream` says, in the place of `answer`, and spoken from its first sentence on; one that
    answers later is asked by `poll`, where `answer` stands in its last answer.
    """

    url: Annotated[WebAddress, Field(min_length=1)]
    key: SecretRef | list[SecretRef] | None = None
    request: Any = None
    answer: JsonPath | None = None
    gives: Given | None = None
    stream: Stream | None = None
    poll: LogicPoll | None = None
    headers: dict[str, HeaderValue] = Field(default_factory=dict)
    timeout: Duration = 8.0
    late_seconds: Annotated[float, Field(ge=0, le=3_600)] = 0.0
    failed: str = ""

    @model_validator(mode="after")
    def _one_shape(self) -> LogicService:
        if (self.request is None) != (self.answer is None and self.stream is None):
            raise ValueError("request and answer go together: what is posted, and where the words"
                             " stand in what comes back; or stream in its place")  # fmt: skip
        if self.stream is not None and (self.answer is not None or self.poll is not None):
            raise ValueError("stream says where the words stand: it has no answer and no poll")
        if self.stream is not None and self.stream.as_ == "messages":
            raise ValueError("stream: as is events or lines; messages are for sockets of engines")
        if self.gives is not None and self.gives.route is not None and self.late_seconds:
            raise ValueError("late_seconds: an answer that comes late leads to no route: leave out"
                             " one of gives.route and late_seconds")  # fmt: skip
        if self.gives is not None and self.answer is None:
            raise ValueError("gives needs request and answer: where else what comes back is read")
        if self.poll is not None and self.answer is None:
            raise ValueError("poll needs request and answer")
        if self.request is None and self.key is None:
            raise ValueError("business logic needs key: {secret: NAME}; or request and answer")
        if self.request is None and self.headers:
            raise ValueError("headers are for request and answer")
        return self

    @property
    def told_call(self) -> bool:
        """Whether it is told the id of each question, so that it can know a repeated one."""
        if self.request is None:
            return True
        return "call" in names_in_tree([self.url, self.request, self.headers_as_text])

    @property
    def headers_as_text(self) -> list[str]:
        """The templates of its headers."""
        return [each for each in self.headers.values() if isinstance(each, str)]

    @property
    def secrets(self) -> list[str]:
        """The names of the secrets that questions are signed with."""
        keys = self.key if isinstance(self.key, list) else [self.key]
        return [each.secret for each in keys if each is not None]

    @property
    def in_headers(self) -> list[str]:
        """The names of the secrets that its headers hold."""
        return [each.secret for each in self.headers.values() if isinstance(each, SecretRef)]


class ArgumentSpec(Schema):
    """An argument of a function that an engine may call.

    `one_of` are all values it may have; `least` and `most` are bounds of a number, or of a `whole`
    one. A `date` is written as in 2026-05-04. A `list` has `entries`, an `object` has `fields`:
    each is an argument again.
    """

    kind: Literal["text", "number", "whole", "boolean", "date", "list", "object"] = "text"
    about: str = Field(default="", max_length=300)
    required: bool = True
    one_of: list[Annotated[str, Field(max_length=100)]] = Field(
        default_factory=list, max_length=100
    )
    least: float | None = None
    most: float | None = None
    entries: ArgumentSpec | None = None
    fields: dict[Name, ArgumentSpec] = Field(default_factory=dict, max_length=50)

    @model_validator(mode="after")
    def _fits_its_kind(self) -> ArgumentSpec:
        if (self.least is not None or self.most is not None) and (
            self.kind not in ("number", "whole")
        ):
            raise ValueError("least and most are bounds of kind: number or whole")
        if self.least is not None and self.most is not None and self.least > self.most:
            raise ValueError("least is above most")
        if (self.entries is not None) != (self.kind == "list"):
            raise ValueError("kind: list needs entries, what it holds; and nothing else takes them")
        if bool(self.fields) != (self.kind == "object"):
            raise ValueError("kind: object needs fields; and nothing else takes them")
        if self.one_of and self.kind in ("list", "object", "boolean"):
            raise ValueError(f"one_of lists the values of a text or a number, not of a {self.kind}")
        return self

    def argument(self) -> Argument:
        """The argument as it is checked, and described to engines."""
        return Argument(
            self.kind,
            self.about,
            self.required,
            tuple(self.one_of),
            self.least,
            self.most,
            self.entries.argument() if self.entries is not None else None,
            {name: each.argument() for name, each in self.fields.items()},
        )


class FunctionSpec(Schema):
    """A function of business logic that an engine may call: what it does, and what it takes. It is
    asked as if it were safe: asking it twice must change nothing. Where it has `confirm`, a
    template over `arguments`, the person is asked that first, and it is called after a yes."""

    about: Annotated[str, Field(min_length=1, max_length=500)]
    arguments: dict[Name, ArgumentSpec] = Field(default_factory=dict)
    confirm: str = Field(default="", max_length=500)

    def function(self, name: str) -> Function:
        """The function as it is described to engines."""
        given = {key: each.argument() for key, each in self.arguments.items()}
        return Function(name, self.about, given, self.confirm)


class OpeningHours(Schema):
    """When somebody is there: `open` has spans of hours for days or spans of days, such as mon-fri;
    `closed` are days without any; `zone` is the time zone they are meant in, such as
    Europe/London."""

    open: dict[str, str | list[str]] = Field(min_length=1, max_length=14)
    closed: list[date] = Field(default_factory=list, max_length=400)
    zone: str = "UTC"

    @field_validator("zone")
    @classmethod
    def _is_a_zone(cls, value: str) -> str:
        try:
            ZoneInfo(value)
        except (ZoneInfoNotFoundError, ValueError, OSError) as error:
            raise ValueError(f"there is no time zone {value!r}, such as Europe/London") from error
        return value

    @model_validator(mode="after")
    def _can_be_read(self) -> OpeningHours:
        self.hours()
        return self

    def hours(self) -> Hours:
        """The hours as they are reckoned with."""
        spans: dict[int, list[Span]] = {}
        for days, given in self.open.items():
            for day in days_of(days):
                listed = [given] if isinstance(given, str) else given
                spans.setdefault(day, []).extend(map(span_of, listed))
        return Hours(spans, frozenset(self.closed), ZoneInfo(self.zone))


Parameter = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")]


class EngineUse(Schema):
    """An engine with its parameters as this assistant wants them: those that its connector file
    declares."""

    engine: Name
    parameters: dict[Parameter, JsonValue] = Field(default_factory=dict, max_length=30)


Engines = Annotated[list[Name | EngineUse], Field(max_length=8)]


class EngineNames(Schema):
    """Engines in the order in which they are asked, by what they do; the first that works answers.
    `built-in` is our own recognizer, synthesizer or summarizer. Where one has parameters, it stands
    as {engine: NAME, parameters: {…}}.

    `calls` are those of telephone calls, by what they do: without them, our own recognizer and
    synthesizer serve calls. `long_files` transcribe what is longer than a minute. With
    `second_pass` our own recognizer reads everything that an engine hears as well, against what
    is expected; its result is used where it found something of that and the engine did not.
    """

    transcribe: Engines = Field(default_factory=list)
    speak: Engines = Field(default_factory=list)
    answer: Engines = Field(default_factory=list)
    summarize: Engines = Field(default_factory=list)
    translate: Engines = Field(default_factory=list)
    draw: Engines = Field(default_factory=list)
    review: Engines = Field(default_factory=list)

    calls: dict[EngineKind, Engines] = Field(default_factory=dict)
    long_files: Engines = Field(default_factory=list)
    second_pass: bool = False

    def of(self, *, in_call: bool = False) -> dict[EngineKind, list[str]]:
        """By kind, those that are given."""
        given: dict[EngineKind, list[str | EngineUse]] = {
            "transcribe": self.transcribe, "speak": self.speak, "answer": self.answer,
            "summarize": self.summarize, "translate": self.translate, "draw": self.draw,
            "review": self.review,
        }  # fmt: skip
        if in_call:
            given |= {"transcribe": [], "speak": [], **self.calls}
        return {kind: names_of(used) for kind, used in given.items() if used}

    def parameters(self) -> dict[str, dict[str, Any]]:
        """What is set of engines' parameters, by engine."""
        kinds = (getattr(self, kind, []) for kind in get_args(EngineKind))
        lists = [*kinds, *self.calls.values(), self.long_files]
        found: dict[str, dict[str, Any]] = {}
        for each in (one for used in lists for one in used):
            if isinstance(each, EngineUse):
                found.setdefault(each.engine, {}).update(each.parameters)
        return found


def names_of(used: Sequence[str | EngineUse]) -> list[str]:
    """The names of engines, in their order."""
    return [each.engine if isinstance(each, EngineUse) else each for each in used]
