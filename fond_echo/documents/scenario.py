"""Scenarios: conversations that test an assistant, in the `scenarios` folder beside it. The same
file is played as a chat and as a telephone call."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from fond_echo.contract.base import Schema
from fond_echo.documents.case import KeptAnswer, Phrases
from fond_echo.documents.errors import FileError, InvalidFile
from fond_echo.documents.source import read_yaml
from fond_echo.documents.steps import Span
from fond_echo.documents.validate import validated

FOLDER = "scenarios/"
Where = Literal["chat", "phone"]
CHAT: Where = "chat"
PHONE: Where = "phone"


def both() -> list[Where]:
    """A chat and a call."""
    return [CHAT, PHONE]


Words = Annotated[str, Field(min_length=1, max_length=1_000)]


class Noise(Schema):
    """What is heard beside the speaker: so many decibels below the voice."""

    kind: Literal["hiss", "hum", "murmur"] = "hiss"
    decibels: Annotated[float, Field(ge=-5, le=60)] = 20.0


class StepExpectation(Schema):
    """What must come of a step; what is left out may be anything. `slots` are the values there are
    by then, whatever words gave them; `reminded` that a caller who said nothing was spoken to,
    `interrupted` that the assistant stopped speaking, `ended` that the conversation is over."""

    heard: str = ""
    route: str = ""
    outcome: str = ""
    slots: dict[str, Any] = Field(default_factory=dict)
    contains: Phrases = Field(default_factory=list)
    lacks: Phrases = Field(default_factory=list)
    choices: list[str] = Field(default_factory=list, max_length=20)
    reminded: bool | None = None
    interrupted: bool | None = None
    ended: bool | None = None


class ScenarioStep(Schema):
    """What the person does; one of these. `says` is spoken, `types` written (and spoken in a call),
    `presses` keys (in a chat, the number of a choice), `picks` a choice, `waits` does nothing for
    so long. `interrupts` says it while the assistant is still speaking; `on` plays the step only
    there."""

    says: Words | None = None
    types: Words | None = None
    presses: Annotated[str, Field(pattern=r"^[0-9*#]+$", max_length=40)] | None = None
    picks: Words | None = None
    waits: Span | None = None
    interrupts: bool = False
    on: Where | None = None
    expect: StepExpectation = Field(default_factory=StepExpectation)

    @model_validator(mode="after")
    def _one(self) -> ScenarioStep:
        given = [n for n in ("says", "types", "presses", "picks", "waits") if getattr(self, n)]
        if len(given) != 1:
            raise ValueError(
                "a step has exactly one of says, types, presses, picks, waits;"
                f" given: {' and '.join(given) or 'none'}"
            )
        return self

    @property
    def words(self) -> str:
        """What is said or written."""
        return self.says or self.types or self.picks or ""


class ScenarioFile(Schema):
    """A scenario. `voice` speaks for the person; `noise` and `loss`, a share of packets, are what
    the sound suffers; `now` is when it begins; `logic` what business logic answers."""

    scenario: Annotated[str, Field(min_length=1, max_length=200)]
    about: str = Field(default="", max_length=1_000)
    on: list[Where] = Field(default_factory=both, min_length=1, max_length=2)
    voice: str = Field(default="curlew", max_length=60)
    noise: Noise | None = None
    loss: Annotated[float, Field(ge=0, le=0.5)] = 0.0
    now: datetime | None = None
    contact: str = Field(default="Isla Quennell", max_length=100)
    memory: dict[str, Any] = Field(default_factory=dict)
    logic: list[KeptAnswer] = Field(default_factory=list, max_length=50)
    steps: Annotated[list[ScenarioStep], Field(min_length=1, max_length=200)]


def is_scenario(name: str) -> bool:
    """Whether a file of an assistant's folder is a scenario."""
    return name.startswith(FOLDER) and name.endswith(".yaml")


def read_scenario_file(text: str, name: str) -> ScenarioFile:
    """A scenario. Raises InvalidFile with every fault."""
    return validated(read_yaml(text, name), ScenarioFile)


def read_scenarios(files: Mapping[str, str]) -> dict[str, ScenarioFile]:
    """The scenarios of a bundle, by their files.

    Raises:
        InvalidFile: with every fault of all of them.
    """
    found: dict[str, ScenarioFile] = {}
    errors: list[FileError] = []
    for name in sorted(filter(is_scenario, files)):
        try:
            found[name] = read_scenario_file(files[name], name)
        except InvalidFile as error:
            errors += error.errors
    if errors:
        raise InvalidFile(errors)
    return found
