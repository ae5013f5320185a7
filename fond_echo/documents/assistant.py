"""The assistant file: what is said, understood and done."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any

from pydantic import Field, PrivateAttr, field_validator, model_validator

from fond_echo.contract.base import Name, Pattern, Schema
from fond_echo.contract.channel import PleaseWait
from fond_echo.contract.reply import SpokenProsody
from fond_echo.core.dialogue.documents import Documents
from fond_echo.core.dialogue.outcomes import FALLBACK
from fond_echo.core.dialogue.phrases import Phrase, has_place
from fond_echo.core.dialogue.routing import IfUnsure, Route, Router
from fond_echo.core.grammar.model import Grammar
from fond_echo.core.language.language import Language
from fond_echo.core.language.pls import Sounds
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.language.sentences import Sentence, Sentences, names, places, wanted
from fond_echo.documents.reply import ReplySpec, Words
from fond_echo.documents.route import AnswersIn, MinConfidence, RouteSpec
from fond_echo.documents.services import EngineNames, LogicService, OpeningHours

MAIN_FILE = "assistant.yaml"
MAX_FILES = 500

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


class BriefSpec(Schema):
    """A brief that the engine may hand the talk to, such as that for complaints: `about` says what
    it is for, and `brief` stands beside the assistant's from then on."""

    about: Annotated[str, Field(min_length=1, max_length=300)]
    brief: Annotated[str, Field(min_length=1, max_length=20_000)]


MediaRange = Annotated[
    str, Pattern(r"[a-z]+/(\*|[a-z0-9.+-]+)", "write a media type, such as image/png or image/*")
]


class AcceptedFiles(Schema):
    """Pictures and files that people send are taken: of these media types, up to so many
    megabytes each. `route` is where a message goes that is nothing but files; without one it goes
    to `fallback`."""

    types: list[MediaRange] = Field(
        default_factory=lambda: ["image/*", "application/pdf"], min_length=1, max_length=20
    )
    max_megabytes: Annotated[float, Field(gt=0, le=25)] = 10.0
    route: Name | None = None

    def refusal(self, media_type: str, size: int) -> str:
        """Why a file is not taken: "file-kind" or "file-too-big"; "" where it is."""
        whole, _, _ = media_type.partition("/")
        if not {media_type, f"{whole}/*"} & set(self.types):
            return "file-kind"
        return "file-too-big" if size > self.max_megabytes * 1_000_000 else ""


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
    `min_confidence` is how likely a route must be to be taken by its examples; where one is less
    likely, `if_unsure` says whether it is asked about or left to `fallback`, which is the usual
    where that answers freely.
    `allowed_placeholders` are meant as they are, such as "[PIER]": others keep a revision from
    being published. `accepts_files` has pictures and files that people send go to business logic
    and to engines that answer freely. `verify_speech` has what is spoken heard again after it went
    out: words that do not come back may be said wrong."""

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
    min_confidence: MinConfidence | None = None
    if_unsure: IfUnsure | None = None
    brief: str = Field(default="", max_length=20_000)
    briefs: dict[Name, BriefSpec] = Field(default_factory=dict, max_length=20)
    engines: EngineNames = Field(default_factory=EngineNames)
    please_wait: PleaseWait = Field(default_factory=PleaseWait)
    hours: OpeningHours | None = None
    accepts_files: AcceptedFiles | None = None
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
                tuple(Phrase.of(text) for text in each.wordings if has_place(text)),
                each.min_confidence,
                each.if_unsure,
            )
            for each in self.routes
        ]

    @property
    def answers_questions(self) -> bool:
        """Whether `fallback` depends on what was asked: an engine, documents or business logic
        answers there."""
        reply = self.fallback.reply
        return bool(reply.free or reply.documents or reply.logic)

    @property
    def answers_freely(self) -> bool:
        """Whether `fallback` has an answer to questions of any kind: an engine's, or business
        logic's."""
        reply = self.fallback.reply
        return bool(reply.free or reply.logic)

    def router(self) -> Router:
        """What decides between the routes."""
        return Router(
            self.router_routes(),
            self.rules,
            self.its_language,
            free=self.answers_freely,
            min_confidence=self.min_confidence,
            if_unsure=self.if_unsure,
        )
