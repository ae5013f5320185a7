"""The assistant file: what is said, understood and done."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field, PrivateAttr, field_validator, model_validator

from fond_echo.contract.base import Name, Pattern, Schema
from fond_echo.contract.channel import PleaseWait
from fond_echo.contract.reply import Attachment, Choice, Elements, SpokenProsody, elements_of
from fond_echo.core.dialogue.documents import Documents
from fond_echo.core.dialogue.free import Function
from fond_echo.core.dialogue.outcomes import FALLBACK
from fond_echo.core.dialogue.phrases import Phrase, has_place
from fond_echo.core.dialogue.routing import Route
from fond_echo.core.dialogue.slots import Slot
from fond_echo.core.grammar.model import Grammar
from fond_echo.core.language.language import Language
from fond_echo.core.language.pls import Sounds
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.language.sentences import Sentence, Sentences, names, places, wanted
from fond_echo.documents.services import EngineNames, FunctionSpec, LogicService, OpeningHours

MAIN_FILE = "assistant.yaml"
MAX_FILES = 500

AnswersIn = Literal["same", "text", "voice", "both"]

TEMPLATE_NAMES = frozenset(
    ("turn", "slots", "contact", "memory", "reply", "now", "variables", "conversation", "hours")
)
"""What a template in an assistant file may ask for."""

TEMPLATE_PARTS: dict[str, frozenset[str]] = {
    "turn": frozenset(("text", "arrived_as", "number", "quoted")),
    "contact": frozenset(("name", "id", "channel")),
    "conversation": frozenset(("recent",)),
    "hours": frozenset(("open", "opens_at", "opens_on")),
    "now": frozenset(("year", "month", "day", "hour", "minute", "second")),
    "reply": frozenset(),
}
"""What there is in them; `slots` has those of the route, `memory` and `variables` what was put
there."""

Words = Annotated[str, Field(min_length=1, max_length=500)]
RuleName = Pattern(
    r"|[A-Za-z_][\w.-]*", "a rule's name has letters, digits, _, . and -, and begins with a letter"
)
LogicName = Pattern(r"|[a-z][a-z0-9-]*\.[a-z][a-z0-9-]*", "write SERVICE.FUNCTION in lower case")
Key = Pattern(r"[0-9*#]?", "one key, 0 to 9, * or #")
Typed = Pattern(r"[\w-]*", "a word to type has letters, digits, _ and -")


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
        if self.undo and (not self.logic or self.safe):
            raise ValueError("undo takes back what logic changed: it goes with logic, without safe")
        if self.draw and not self.text:
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

    def permitted(self) -> list[Function]:
        """The functions that an engine may call."""
        return [each.function(name) for name, each in self.functions.items()]


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


class RouteSpec(Schema):
    """A route: how it is reached, what it needs, and what it answers.

    `rule` is a rule of the grammar. `title` is what it is called in "did you mean". `read_back` is
    a template that is said before a slot with `confirm` is used. `closed` is said in the place of
    its answer outside of the assistant's hours.
    """

    route: Name
    rule: Annotated[str, RuleName] = ""
    examples: list[Annotated[str, Field(min_length=1, max_length=300)]] = Field(
        default_factory=list
    )
    key: Annotated[str, Key] = ""
    command: Annotated[str, Typed, Field(max_length=40)] = ""
    title: str = Field(default="", max_length=80)
    slots: dict[Name, SlotSpec] = Field(default_factory=dict)
    read_back: str = ""
    answers_in: AnswersIn | None = None
    closed: str = Field(default="", max_length=2_000)
    reply: ReplySpec

    @model_validator(mode="after")
    def _can_be_reached(self) -> RouteSpec:
        for example in filter(has_place, self.examples):
            slot = self.slots.get(Phrase.of(example).slot)
            if slot is None or slot.kind != "text":
                raise ValueError(
                    f"{example!r} needs a slot {Phrase.of(example).slot!r} with kind: text"
                )
        if not (self.examples or self.command or self.rule or self.key):
            raise ValueError("a route needs examples, rule, command or key, or nothing leads to it")
        return self

    @property
    def plain(self) -> tuple[str, ...]:
        """The examples without a place for free words."""
        return tuple(text for text in self.examples if not has_place(text))


class SentenceSpec(Schema):
    """A sentence in the assistant's own words: as it is written, and as it is spoken where that is
    something else."""

    text: str = Field(min_length=1, max_length=500)
    spoken: str = Field(default="", max_length=500)


class Greeting(Schema):
    """What is said first: words, and a sound of the folder that is played in place of speech."""

    text: str = Field(min_length=1, max_length=2_000)
    spoken: str = Field(default="", max_length=2_000)
    sound: str = Field(default="", max_length=200)

    @model_validator(mode="before")
    @classmethod
    def _from_words(cls, given: Any) -> Any:
        return {"text": given} if isinstance(given, str) else given


class Fallback(Schema):
    """What is answered when no route fits."""

    reply: ReplySpec


class AssistantFile(Schema):
    """An assistant.

    `channels` may set answers_in for a channel by its name. `goodbye` is said when a conversation
    ends, `operator` when it is handed to an operator; where `operator` is empty there is none.
    `sentences` puts other words in the place of what the service itself says, by name.
    `operator_number` is where a caller who asks for an operator is connected. `lexicon` is a file
    (PLS) of names and how they are said: recognizer and synthesizer go by it. `brief` tells an
    engine that answers freely who the assistant is and how it talks. `please_wait` is what is
    said where hearing or answering takes long. `hours` say when somebody is there: a route's
    `closed` words are said outside of them, and so are `operator_closed` in the place of handing
    over.
    `allowed_placeholders` are meant as they are, such as "[PIER]": others keep a revision from
    being published. `verify_speech` has what is spoken heard again after it went out: words that do
    not come back may be said wrong."""

    assistant: Name
    language: str = "en"
    voice: str = "whimbrel"
    prosody: SpokenProsody = Field(default_factory=SpokenProsody)
    answers_in: AnswersIn = "same"
    channels: dict[Name, AnswersIn] = Field(default_factory=dict)
    greeting: Greeting | None = None
    goodbye: str = ""
    operator: str = ""
    operator_number: str = Field(default="", max_length=100)
    operator_closed: str = ""
    grammar: str = ""
    lexicon: str = ""
    logic: dict[Name, LogicService] = Field(default_factory=dict)
    routes: list[RouteSpec] = Field(default_factory=list)
    fallback: Fallback
    brief: str = Field(default="", max_length=20_000)
    engines: EngineNames = Field(default_factory=EngineNames)
    please_wait: PleaseWait = Field(default_factory=PleaseWait)
    hours: OpeningHours | None = None
    verify_speech: bool = False
    allowed_placeholders: list[Words] = Field(default_factory=list, max_length=50)
    sentences: dict[Name, Words | SentenceSpec] = Field(default_factory=dict)

    _grammar: Grammar = PrivateAttr(default_factory=language_of().types.builtin_grammar)
    _documents: dict[str, Documents] = PrivateAttr(default_factory=dict)
    _media: dict[str, str] = PrivateAttr(default_factory=dict)
    _pronounced: Sounds = PrivateAttr(default=())

    @field_validator("sentences")
    @classmethod
    def _are_sentences(cls, value: dict[str, str | SentenceSpec]) -> dict[str, str | SentenceSpec]:
        for name, own in value.items():
            if name not in names():
                raise ValueError(
                    f"the service says no sentence {name!r}; it says: {', '.join(names())}"
                )
            for text in [own] if isinstance(own, str) else [own.text, own.spoken or own.text]:
                if places(text) != wanted(name):
                    has = " and ".join(f"{{{each}}}" for each in sorted(wanted(name)))
                    raise ValueError(f"the sentence {name} has {has or 'nothing in braces'}")
        return value

    @field_validator("greeting", mode="before")
    @classmethod
    def _no_words_are_no_greeting(cls, value: Any) -> Any:
        return value or None

    @property
    def says(self) -> Sentences:
        """What the service says for this assistant."""
        own = {
            name: Sentence(each) if isinstance(each, str) else Sentence(each.text, each.spoken)
            for name, each in self.sentences.items()
        }
        return Sentences(self.its_language, own)

    @property
    def its_language(self) -> Language:
        """The language that it understands and speaks. Raises UnknownLanguage."""
        return language_of(self.language)

    @property
    def rules(self) -> Grammar:
        """The grammar, with the built-in types beside it."""
        return self._grammar

    @property
    def pronounced(self) -> Sounds:
        """Words that the assistant's lexicon says in its own way."""
        return self._pronounced

    @property
    def named(self) -> tuple[str, ...]:
        """Names that may be said in any question: what functions take that an engine may call."""
        return tuple(
            dict.fromkeys(
                name
                for _, _, reply in self.replies()
                for function in reply.permitted()
                for argument in function.arguments.values()
                for name in argument.one_of
            )
        )

    def documents_of(self, route: str) -> Documents | None:
        """The documents that a route's reply searches."""
        return self._documents.get(route)

    def keep_media(self, media: Mapping[str, str]) -> None:
        """Give the assistant the sounds and files of its folder, as base64 by name."""
        self._media = dict(media)

    def media(self, name: str) -> str | None:
        """A sound or another file of the folder, as base64."""
        return self._media.get(name)

    def route(self, name: str) -> RouteSpec | None:
        """A route by its name; None for `fallback`."""
        return next((each for each in self.routes if each.route == name), None)

    def route_named(self, name: str) -> RouteSpec:
        """A route by its name. Raises KeyError where there is none."""
        found = self.route(name)
        if found is None:
            raise KeyError(name)
        return found

    def spec(self, route: str) -> ReplySpec:
        """The reply of a route, or of `fallback`."""
        found = self.route(route)
        return found.reply if found else self.fallback.reply

    def kinds_for(self, channel: str, route: str) -> AnswersIn:
        """How a route answers on a channel: the route's word before the channel's before the
        assistant's."""
        found = self.route(route)
        return (found and found.answers_in) or self.channels.get(channel) or self.answers_in

    def replies(self) -> list[tuple[str, tuple[Any, ...], ReplySpec]]:
        """Every reply: its route, its path in the file, and itself."""
        found: list[tuple[str, tuple[Any, ...], ReplySpec]] = [
            (each.route, ("routes", place, "reply"), each.reply)
            for place, each in enumerate(self.routes)
        ]
        return [*found, (FALLBACK, ("fallback", "reply"), self.fallback.reply)]

    def router_routes(self) -> list[Route]:
        """The routes as the router takes them."""
        # In an example, {SLOT} is a place for free words.
        return [
            Route(
                each.route,
                each.plain,
                each.command or None,
                each.key,
                each.rule,
                each.title,
                tuple(Phrase.of(text) for text in each.examples if has_place(text)),
            )
            for each in self.routes
        ]
