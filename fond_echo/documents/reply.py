"""What an answer of an assistant file is: where it comes from, and how it is said."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from fond_echo.contract.base import Pattern, Schema
from fond_echo.contract.reply import Attachment, Elements, SpokenProsody, elements_of
from fond_echo.core.dialogue.functions import Function
from fond_echo.documents.services import FunctionSpec

Words = Annotated[str, Field(min_length=1, max_length=500)]
RuleName = Pattern(
    r"|[A-Za-z_][\w.-]*", "a rule's name has letters, digits, _, . and -, and begins with a letter"
)
LogicName = Pattern(r"|[a-z][a-z0-9-]*\.[a-z][a-z0-9-]*", "write SERVICE.FUNCTION in lower case")


class TranscriptSpec(Schema):
    """What was said, in writing: so many points of a summary with their times, and the whole; so
    many sentences of the summary are spoken."""

    points: Annotated[int, Field(ge=1, le=20)] = 5
    spoken_sentences: Annotated[int, Field(ge=1, le=10)] = 2


class ReplySpec(Elements):
    """Where an answer comes from: words written here, documents that are searched, business
    logic, or `free`: an engine answers in its own words, by the assistant's `brief`, by what it
    finds in `documents` if there are some, and by `functions` of business logic that it may call;
    or `transcript`: what was said itself, in writing, and a summary of it.

    `logic` is SERVICE.ACTION; `safe` says that asking it twice changes nothing; `undo` is the
    SERVICE.ACTION that takes back what it did, asked with the same slots. `sound` is a file
    of the folder that is played in place of speech; `text` says what is in it. `sentences` is how
    many are spoken at most, from the beginning; `summary` how many are picked from the whole for
    what they tell. `then` says what comes after: end the conversation, hand it to an operator,
    `transfer` a call to the number `to` (a chat goes to an operator), or `record`: what comes next,
    however it comes, is a message of at most `max_seconds`, answered with `kept` or by the route's
    own business logic.
    Where `unknown`, `no_conference` and `kept` are empty, the service says them in its own words.
    `translate_to` puts the text, or without one what the person said, into another language;
    `draw` is what a picture that goes along shows; both take an engine that can.
    An announcement is said `after` so many seconds: until then it can be taken back.
    `voice` and `prosody` are how it is said, where it is another way than the assistant's.
    An engine that answers freely goes by `brief` in the place of the assistant's, where there is
    one; `requires` are those of its `functions` without whose result no answer goes out, and
    `transfers` the numbers that it may connect a caller with. Every free answer is judged;
    with `bad_answers: ask-again` the engine is asked once more for one that does not answer, and
    `unknown` is said where that is no better. What was left to be filled in never goes out.
    """

    text: str = ""
    spoken: str = ""
    sound: str = Field(default="", max_length=200)
    attachments: list[Attachment] = Field(default_factory=list)
    sentences: int = Field(default=0, ge=0, le=50)
    summary: int = Field(default=0, ge=0, le=50)
    logic: Annotated[str, LogicName] = ""
    safe: bool = False
    undo: Annotated[str, LogicName] = ""
    documents: list[Words] = Field(default_factory=list)
    free: bool = False
    transcript: TranscriptSpec | None = None
    functions: dict[Annotated[str, LogicName], FunctionSpec] = Field(default_factory=dict)
    brief: str = Field(default="", max_length=20_000)
    bad_answers: Literal["", "send", "ask-again"] = ""
    requires: list[Annotated[str, LogicName]] = Field(default_factory=list, max_length=10)
    transfers: list[Words] = Field(default_factory=list, max_length=20)
    unknown: str = ""
    then: Literal["", "end", "operator", "transfer", "record", "announce"] = ""
    over: str = Field(default="", max_length=60)
    announced: str = Field(default="", max_length=5_000)
    after: Annotated[float, Field(ge=0, le=3_600)] = 0.0
    no_conference: str = ""
    to: str = Field(default="", max_length=100)
    max_seconds: int = Field(default=120, ge=5, le=3_600)
    kept: str = ""
    translate_to: str = Field(default="", max_length=12, pattern=r"^([a-z]{2,3}(-\w+)*)?$")
    draw: Words = ""
    voice: str = Field(default="", max_length=60)
    prosody: SpokenProsody | None = None

    @model_validator(mode="after")
    def _one_source(self) -> ReplySpec:
        said = self.text or self.spoken or self.sound or self.attachments
        words = bool(said) or any(elements_of([self]).values())
        documents = bool(self.documents) or self.free or self.transcript is not None
        if sum((bool(self.logic), documents, words)) > 1:
            raise ValueError(
                "a reply is logic, documents, free or transcript, or words (text, spoken,"
                " choices), and only one of them"
            )
        words = words or bool(self.translate_to)
        if not (self.logic or documents or words or self.then):
            raise ValueError("a reply needs text, spoken, logic, documents or free: true")
        if self.functions and not self.free:
            raise ValueError("functions are for free: true")
        for name in ("brief", "requires", "transfers", "bad_answers"):
            if getattr(self, name) and not self.free:
                raise ValueError(f"{name} is for free: true")
        for name in self.requires:
            if name not in self.functions:
                raise ValueError(f"requires names {name}, which is not among the functions")
        for name in ("sentences", "summary", "draw", "translate_to"):
            if getattr(self, name) and (self.transcript is not None):
                raise ValueError(f"{name} has no effect beside transcript: leave it out")
        if self.undo and (not self.logic or self.safe):
            raise ValueError("undo takes back what logic changed: it goes with logic, without safe")
        if self.draw and not (self.text or self.free or self.logic):
            raise ValueError("draw needs text: what is said with the picture")
        if self.sound and not self.text:
            raise ValueError("a sound needs text: what is in it, for those who read")
        if self.then == "transfer" and not self.to:
            raise ValueError("then: transfer needs to, the number")
        if self.to and self.then not in ("transfer", "announce"):
            raise ValueError("to, a number, is for then: transfer or announce")
        if (self.then == "announce") != bool(self.over and self.announced):
            raise ValueError(
                "then: announce needs over, the phone channel, and announced, the words to say"
                " in the conference; and nothing else takes them"
            )
        if self.sentences and self.summary:
            raise ValueError("a reply is shortened by sentences or by summary, and not by both")
        return self

    @property
    def asks_again(self) -> bool:
        """Whether an engine is asked once more for an answer that does not answer."""
        return self.bad_answers == "ask-again"

    @property
    def shapes_speech(self) -> bool:
        """Whether what is said is made of the whole answer: then it is not said while it comes."""
        return bool(
            self.sentences or self.summary or self.translate_to or self.bad_answers == "ask-again"
        )

    def permitted(self) -> list[Function]:
        """The functions that an engine may call."""
        return [each.function(name) for name, each in self.functions.items()]
