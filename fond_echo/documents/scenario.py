"""Scenarios: conversations that test an assistant, in the `scenarios` folder beside it.

A scenario is played in simulated time, the same file as a chat and as a telephone call:

    scenario: Somebody asks for the fares
    steps:
      - says: How much is a ticket?
        expect: {route: fares, contains: [four pounds]}

With `people`, it is played in real time by telephones in software that call a service:

    scenario: Piet asks for the fares
    people: {piet: "+441632960102"}
    steps:
      - dials: "+441632960200"
      - hears: Tern Sound Ferries
      - says: How much is a ticket?
      - hears: [A crossing is four pounds, I am not sure]
      - hangs_up: true
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from fond_echo.contract.base import JsonObject, Schema, Seconds
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
    slots: JsonObject = Field(default_factory=dict)
    contains: Phrases = Field(default_factory=list)
    lacks: Phrases = Field(default_factory=list)
    choices: list[str] = Field(default_factory=list, max_length=20)
    reminded: bool | None = None
    interrupted: bool | None = None
    ended: bool | None = None


class ScenarioStep(Schema):
    """What the person does; one of these.

    Everywhere: `says` is spoken, `presses` are keys (in a chat, the number of a choice), `waits`
    does nothing for so long.

    In simulated time: `types` is written (and spoken in a call), `picks` a choice. `interrupts`
    says it while the assistant is still speaking; `on` plays the step only there; `expect` is what
    must come of it.

    By telephone, where `who` does it is said if there is more than one: `dials` a number,
    `picks_up` a call that comes within so long, `plays` a sound file, `holds`, `resumes`,
    `hangs_up`, `vanishes` without a word; `is_over` waits so long for the call's end, `ends_as` is
    how it ended. `hears` waits for words: all that is said up to a pause is read, and most of them
    must be in it; where several are given, of one of them. Words of the next `hears` that came in
    the same breath are not waited for again.
    """

    who: str = ""
    says: Words | None = None
    presses: Annotated[str, Field(pattern=r"^[0-9*#A-D]+$", max_length=40)] | None = None
    waits: Span | None = None
    types: Words | None = None
    picks: Words | None = None
    dials: Words | None = None
    picks_up: Span | None = None
    plays: Words | None = None
    hears: Words | Annotated[list[Words], Field(min_length=1)] | None = None
    holds: Literal[True] | None = None
    resumes: Literal[True] | None = None
    hangs_up: Literal[True] | None = None
    vanishes: Literal[True] | None = None
    is_over: Span | None = None
    ends_as: Words | None = None
    interrupts: bool = False
    on: Where | None = None
    expect: StepExpectation = Field(default_factory=StepExpectation)

    @model_validator(mode="after")
    def _one(self) -> ScenarioStep:
        given = [name for name in DOES if getattr(self, name) is not None]
        if len(given) != 1:
            raise ValueError(
                f"a step has exactly one of {', '.join(DOES)};"
                f" given: {' and '.join(given) or 'none'}"
            )
        return self

    @property
    def does(self) -> str:
        """The key of what is done."""
        return next(name for name in DOES if getattr(self, name) is not None)

    @property
    def words(self) -> str:
        """What is said or written."""
        return self.says or self.types or self.picks or ""


SIMULATED = ("says", "types", "presses", "picks", "waits")
BY_PHONE = (
    "says", "presses", "waits", "dials", "picks_up", "plays", "hears", "holds", "resumes",
    "hangs_up", "vanishes", "is_over", "ends_as",
)  # fmt: skip
DOES = tuple(dict.fromkeys((*SIMULATED, *BY_PHONE)))
SIMULATED_ALONE = ("interrupts", "on", "expect")
"""What a step of simulated time has beside what is done."""


class Impairment(Schema):
    """What the packets of a telephone suffer on their way: shares of 0 to 1, times in
    milliseconds."""

    loss: Annotated[float, Field(ge=0, le=1)] = 0.0
    duplicated: Annotated[float, Field(ge=0, le=1)] = 0.0
    reordered: Annotated[float, Field(ge=0, le=1)] = 0.0
    late: Annotated[float, Field(ge=0, le=1)] = 0.0
    late_ms: Annotated[float, Field(ge=0, le=10_000)] = 200.0
    jitter_ms: Annotated[float, Field(ge=0, le=1_000)] = 0.0


class ScenarioPerson(Schema):
    """Somebody with a telephone: its number, the voice (that of the same name, if there is one),
    what happens `when_called`, `after` how long, and what its sound suffers."""

    number: Annotated[str, Field(min_length=1, max_length=100)]
    voice: str = Field(default="", max_length=60)
    when_called: Literal["answer", "reject", "busy", "ring-out", "dead"] = "answer"
    after: Annotated[Seconds, Field(ge=0, le=60)] = 0.3
    impairments: Impairment = Field(default_factory=Impairment)

    @model_validator(mode="before")
    @classmethod
    def _from_number(cls, given: Any) -> Any:
        return {"number": given} if isinstance(given, str) else given


class ScenarioFile(Schema):
    """A scenario. `voice` speaks for the person; `noise` and `loss`, a share of packets, are what
    the sound suffers; `now` is when it begins; `logic` what business logic answers. With `people`,
    by name, it is played by telephone, and has none of these."""

    scenario: Annotated[str, Field(min_length=1, max_length=200)]
    about: str = Field(default="", max_length=1_000)
    people: dict[str, ScenarioPerson] = Field(default_factory=dict, max_length=20)
    on: list[Where] = Field(default_factory=both, min_length=1, max_length=2)
    voice: str = Field(default="curlew", max_length=60)
    noise: Noise | None = None
    loss: Annotated[float, Field(ge=0, le=0.5)] = 0.0
    now: datetime | None = None
    contact: str = Field(default="Isla Quennell", max_length=100)
    memory: JsonObject = Field(default_factory=dict)
    logic: list[KeptAnswer] = Field(default_factory=list, max_length=50)
    steps: Annotated[list[ScenarioStep], Field(min_length=1, max_length=500)]

    @model_validator(mode="after")
    def _of_one_kind(self) -> ScenarioFile:
        for number, step in enumerate(self.steps, 1):
            where = f"step {number}"
            if self.people:
                self._by_phone(step, where)
            elif step.who or step.does not in SIMULATED:
                word = "who" if step.who else step.does
                raise ValueError(
                    f"{where}: {word} is only for telephones; name them under people:"
                    ' {NAME: "+44…"}'
                )
        common = {"scenario", "about", "people", "steps"}
        if self.people and (more := sorted(self.model_fields_set - common)):
            raise ValueError(
                f"{', '.join(more)}: only in simulated time, which has no people;"
                " a person has voice and impairments"
            )
        return self

    def _by_phone(self, step: ScenarioStep, where: str) -> None:
        if step.does not in BY_PHONE:
            raise ValueError(
                f"{where}: {step.does} is only for simulated time; on a telephone use says"
            )
        if more := [name for name in SIMULATED_ALONE if name in step.model_fields_set]:
            raise ValueError(f"{where}: {', '.join(more)}: only in simulated time; see hears")
        known = ", ".join(self.people)
        if step.who and step.who not in self.people:
            raise ValueError(f"{where}: {step.who!r} is none of {known}")
        if not step.who and len(self.people) > 1:
            raise ValueError(f"{where}: say who does it: {known}")

    def doer(self, step: ScenarioStep) -> str:
        """The name of who does a step by telephone."""
        return step.who or next(iter(self.people))


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
        else:
            if found[name].people:
                what = (
                    "a scenario with people calls a service; it is not played beside an assistant"
                )
                errors.append(FileError(name, 1, 1, what, "keep it in another folder"))
    if errors:
        raise InvalidFile(errors)
    return found
