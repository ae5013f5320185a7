"""What a route of an assistant file is: how it is reached, what it needs, and what it answers."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from fond_echo.contract.base import Name, Pattern, Schema
from fond_echo.contract.reply import Choice
from fond_echo.core.dialogue.phrases import Phrase, has_place
from fond_echo.core.dialogue.routing import IfUnsure
from fond_echo.core.dialogue.slots import Slot
from fond_echo.documents.reply import ReplySpec, RuleName, Words

AnswersIn = Literal["same", "text", "voice", "both"]

Key = Pattern(r"[0-9*#]?", "one key, 0 to 9, * or #")
Typed = Pattern(r"[\w-]*", "a word to type has letters, digits, _ and -")


class Condition(Schema):
    """A condition on a slot's value: a template that gives true or false, and what is said where
    it gives false."""

    condition: str
    message: Words


class SlotSpec(Schema):
    """Something a route needs.

    `rule` is a rule of the grammar, `kind` a built-in type. `ask` may have several wordings, used
    in turn. `required: false` takes it only where it is said. `choices` offers the values as
    buttons. `kind: text` takes whatever is said, as it is, up to `max_characters`.
    """

    rule: Annotated[str, RuleName] = ""
    kind: str = ""
    ask: Words | list[Words] = ""
    conditions: list[Condition] = Field(default_factory=list, alias="validate")
    confirm: bool = False
    required: bool = True
    keys: dict[str, str | int | float] = Field(default_factory=dict)
    choices: list[Choice] = Field(default_factory=list, max_length=20)
    max_characters: Annotated[int, Field(ge=1, le=4_000)] = 1_000

    @model_validator(mode="after")
    def _one_kind(self) -> SlotSpec:
        if bool(self.rule) == bool(self.kind):
            raise ValueError("a slot has either a rule of the grammar or a kind")
        return self

    @property
    def wordings(self) -> list[str]:
        return [self.ask] if isinstance(self.ask, str) else list(self.ask)

    def slot(self, name: str) -> Slot:
        """The slot as the machine takes it."""
        rule = self.rule or f"builtin:{self.kind}"
        return Slot(name, rule, dict(self.keys), self.confirm, self.required)


MinConfidence = Annotated[float, Field(ge=0.05, le=1.0)]


class RouteSpec(Schema):
    """A route: how it is reached, what it needs, and what it answers.

    `rule` is a rule of the grammar. `widened` are more examples, which were proposed and approved
    (`assistant widen`). `title` is what it is called in "did you mean". `read_back` is
    a template that is said before a slot with `confirm` is used. `closed` is said in the place of
    its answer outside of the assistant's hours. `min_confidence` is how likely the route must be to
    be taken by its examples, `if_unsure` whether it is asked about where it is less likely, or left
    to `fallback`; both go before the assistant's.
    """

    route: Name
    rule: Annotated[str, RuleName] = ""
    examples: list[Annotated[str, Field(min_length=1, max_length=300)]] = Field(
        default_factory=list
    )
    widened: list[Annotated[str, Field(min_length=1, max_length=300)]] = Field(
        default_factory=list, max_length=50
    )
    key: Annotated[str, Key] = ""
    command: Annotated[str, Typed, Field(max_length=40)] = ""
    title: str = Field(default="", max_length=80)
    slots: dict[Name, SlotSpec] = Field(default_factory=dict)
    read_back: str = ""
    answers_in: AnswersIn | None = None
    closed: str = Field(default="", max_length=2_000)
    min_confidence: MinConfidence | None = None
    if_unsure: IfUnsure | None = None
    reply: ReplySpec

    @model_validator(mode="after")
    def _can_be_reached(self) -> RouteSpec:
        for example in filter(has_place, self.wordings):
            slot = self.slots.get(Phrase.of(example).slot)
            if slot is None or slot.kind != "text":
                raise ValueError(
                    f"{example!r} needs a slot {Phrase.of(example).slot!r} with kind: text"
                )
        if self.widened and not self.examples:
            raise ValueError("widened goes with examples, of which it has other wordings")
        if not (self.examples or self.command or self.rule or self.key):
            raise ValueError("a route needs examples, rule, command or key, or nothing leads to it")
        for name in ("min_confidence", "if_unsure"):
            if getattr(self, name) is not None and not self.examples:
                raise ValueError(f"{name} is about a route's examples, and this one has none")
        return self

    @property
    def plain(self) -> tuple[str, ...]:
        """The examples without a place for free words."""
        return tuple(text for text in self.wordings if not has_place(text))

    @property
    def wordings(self) -> tuple[str, ...]:
        """The examples as they were written, and those that were proposed and approved."""
        return (*self.examples, *self.widened)
