"""Cases: kept turns with what must come out of them, in the `cases` folder of an assistant."""

from __future__ import annotations

import io
from collections.abc import Mapping
from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator
from ruamel.yaml import YAML

from fond_echo.contract.base import JsonObject, Name, Schema
from fond_echo.contract.reply import Reply
from fond_echo.core.dialogue.verdict import VerdictKind
from fond_echo.documents.errors import FileError, InvalidFile
from fond_echo.documents.paths import pattern
from fond_echo.documents.source import read_yaml
from fond_echo.documents.steps import Span
from fond_echo.documents.validate import validated

FOLDER = "cases/"

Phrases = Annotated[list[Annotated[str, Field(min_length=1, max_length=500)]], Field(max_length=20)]


CaseStage = Literal["transcribe", "route", "answer", "speak", "encode"]


class KeptAnswer(Schema):
    """What business logic answered to a question: used where it is asked for the same, with the
    same slots, and, where it says what was `sent`, where the same would be sent. `received` is what
    came back, in place of `answers`: it is read as the assistant says now."""

    asks: Annotated[str, Field(pattern=r"^[\w-]+\.[\w-]+$")]
    slots: JsonObject = Field(default_factory=dict)
    sent: JsonObject | None = None
    received: Any = None
    answers: list[Reply] = Field(default_factory=list, max_length=20)

    @model_validator(mode="after")
    def _has_one_answer(self) -> KeptAnswer:
        if bool(self.answers) == (self.received is not None):
            raise ValueError("a kept answer has answers, or what was received in their place")
        return self


class KeptWish(Schema):
    """A function that an engine wanted called."""

    name: Annotated[str, Field(pattern=r"^[\w-]+\.[\w-]+$")]
    arguments: JsonObject = Field(default_factory=dict)


class EngineAnswer(Schema):
    """What an engine that answers freely gave: words, functions that it wanted called first, or a
    route with what it needs."""

    text: str = Field(default="", max_length=20_000)
    spoken: str = Field(default="", max_length=20_000)
    calls: list[KeptWish] = Field(default_factory=list, max_length=4)
    route: str = Field(default="", max_length=60)
    slots: JsonObject = Field(default_factory=dict)
    then: Literal["", "end", "operator", "transfer"] = ""
    to: str = Field(default="", max_length=60)

    @model_validator(mode="after")
    def _is_one_of_them(self) -> EngineAnswer:
        if sum(map(bool, (self.text, self.calls, self.route))) != 1:
            raise ValueError("an answer of an engine has one of text, calls and route")
        if self.slots and not self.route:
            raise ValueError("slots go with route")
        if not self.text and (self.spoken or self.then):
            raise ValueError("spoken and then go with text")
        if self.to and self.then != "transfer":
            raise ValueError("to goes with then: transfer")
        return self


class Expectation(Schema):
    """What must come out of a case; what is left out may be anything. `text` is all that is
    written, `spoken` all that is said: each must contain some phrases, have none of others, and
    match a pattern. `asks` is the business logic that is asked, `none` for none of it; `asks_with`
    are slots it is asked with; `calls` are the functions that an engine has called, `none` for none
    of them. An answer has `words_at_most`, one of these `verdicts`, and is in this `language` as
    far as its words tell. `stages` must all run, and those that are not named must not. The
    reply's sound lasts `spoken_at_most` so long, is a proper `voice_note`, and these words
    `heard_as` when it is heard again."""

    heard: str = ""
    route: str = ""
    outcome: str = ""
    slots: JsonObject = Field(default_factory=dict)
    contains: Phrases = Field(default_factory=list)
    lacks: Phrases = Field(default_factory=list)
    matches: str = Field(default="", max_length=500)
    spoken: Phrases = Field(default_factory=list)
    choices: list[str] = Field(default_factory=list, max_length=20)
    asks: str = Field(default="", max_length=120)
    asks_with: JsonObject = Field(default_factory=dict)
    calls: list[Annotated[str, Field(max_length=120)]] = Field(default_factory=list, max_length=10)
    words_at_most: Annotated[int, Field(ge=1, le=5_000)] | None = None
    verdicts: list[VerdictKind] = Field(default_factory=list, max_length=6)
    language: str = Field(default="", max_length=12)
    stages: list[CaseStage] = Field(default_factory=list, max_length=5)
    spoken_at_most: Span | None = None
    voice_note: bool = False
    heard_as: Phrases = Field(default_factory=list)

    @property
    def of_sound(self) -> bool:
        """Whether the reply has to be spoken to find out."""
        return bool(self.spoken_at_most or self.voice_note or self.heard_as or self.stages)

    @field_validator("matches")
    @classmethod
    def _is_a_pattern(cls, value: str) -> str:
        if value:
            pattern(value)
        return value

    @model_validator(mode="after")
    def _says_something(self) -> Expectation:
        if self == type(self).model_construct():
            raise ValueError("a case expects something: route, contains, slots …")
        if both := set(self.contains) & set(self.lacks):
            raise ValueError(f"a text cannot both contain and lack {sorted(both)[0]!r}")
        if "none" in self.calls and len(self.calls) > 1:
            raise ValueError("calls names functions, or none of them: not both")
        return self


class CaseFile(Schema):
    """A case. `said` is a text, or `sound` a recording beside it; `state` and `memory` are what
    was before, `now` when it was; `logic` what business logic answered then, and `engine` what the
    engine that answers freely gave each time that it was asked."""

    case: Name
    about: str = Field(default="", max_length=500)
    said: str = Field(default="", max_length=4_000)
    sound: str = Field(default="", max_length=200)
    command: bool = False
    choice: str = Field(default="", max_length=200)
    contact: str = Field(default="", max_length=100)
    now: datetime | None = None
    state: JsonObject = Field(default_factory=dict)
    memory: JsonObject = Field(default_factory=dict)
    logic: list[KeptAnswer] = Field(default_factory=list, max_length=20)
    engine: list[EngineAnswer] = Field(default_factory=list, max_length=10)
    expect: Expectation

    @model_validator(mode="after")
    def _is_said(self) -> CaseFile:
        if not (self.said or self.sound or self.choice):
            raise ValueError("a case needs said, sound or choice")
        return self


def written(case: Mapping[str, Any]) -> str:
    """A case as a file that is read and compared."""
    yaml, out = YAML(), io.StringIO()
    yaml.width, yaml.default_flow_style = 100, False
    yaml.representer.ignore_aliases = lambda data: True
    yaml.dump(dict(case), out)
    return out.getvalue()


def is_case(name: str) -> bool:
    """Whether a file of an assistant's folder is a case."""
    return name.startswith(FOLDER) and name.endswith(".yaml")


def read_cases(files: Mapping[str, str]) -> list[CaseFile]:
    """The cases of a bundle, by name.

    Raises:
        InvalidFile: with every fault of all of them.
    """
    found: dict[str, CaseFile] = {}
    errors: list[FileError] = []
    for name in sorted(filter(is_case, files)):
        try:
            source = read_yaml(files[name], name)
            case = validated(source, CaseFile)
        except InvalidFile as error:
            errors += error.errors
            continue
        if case.sound and FOLDER + case.sound not in files:
            what = f"there is no recording {FOLDER}{case.sound}"
            errors.append(source.error(("sound",), what, "put it back, or delete the case"))
        if case.case in found:
            errors.append(source.error(("case",), f"a second case {case.case!r}"))
        found[case.case] = case
    if errors:
        raise InvalidFile(errors)
    return list(found.values())
