"""The turn so far: what came in, what it is worked with, and what the stages added."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any, Literal

from pydantic import Field

from fond_echo.contract.base import Schema
from fond_echo.contract.channel import Inbound
from fond_echo.contract.clip import ClipRef
from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.logic import SentFile
from fond_echo.contract.reply import AnswerVerdict, Reply
from fond_echo.contract.turn import Heard, RunKind, StageName
from fond_echo.core.caching import Recent
from fond_echo.core.dialogue.deciding import Outcome
from fond_echo.core.dialogue.outcomes import FALLBACK
from fond_echo.core.dialogue.routing import Router
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.reading import read_assistant
from fond_echo.documents.route import AnswersIn
from fond_echo.turns.state import Asked, ConversationState, WishedCall


class ReceivedFile(Schema):
    """A picture or another file that came with a message. Where it is not taken, `refused` says
    why, and there is no clip. `url` gives its bytes without a key for a day."""

    clip: ClipRef | None = None
    url: str = ""
    media_type: str = ""
    name: str = ""
    caption: str = ""
    refused: str = ""


class FetchedSound(Schema):
    """fetch: the sound as the network had it, and the files that came with the message."""

    clip: ClipRef | None = None
    files: list[ReceivedFile] = Field(default_factory=list)
    exchanges: list[Any] = Field(default_factory=list)


class DecodedClip(Schema):
    """decode: mono sound at 16 kHz, and what the file was."""

    clip: ClipRef
    container: str
    codec: str
    channel_count: int
    loudness: float | None


class RouteScore(Schema):
    route: str
    score: float
    because: str
    confidence: float = 0.0


class Routed(Schema):
    """route: where the turn goes, and why; what is to be said there; the dialogue that goes on;
    the words that are used `instead` of those that were said; how likely a route was `needed` to
    be; the function that is called now because the person said yes to it."""

    route: str
    by: Literal[
        "command", "key", "choice", "rule", "example", "slot", "intent", "engine", "fallback"
    ]
    sure: bool
    because: str
    confidence: float = 1.0
    needed: float = 0.0
    scores: list[RouteScore] = Field(default_factory=list)
    outcome: Outcome = "reply"
    instead: str = ""
    slots: dict[str, Any] = Field(default_factory=dict)
    open: dict[str, Any] | None = None
    slot: str = ""
    why: str = ""
    requested: Asked | None = None
    offered: list[str] = Field(default_factory=list)
    confirmed: WishedCall | None = None


class Answered(Schema):
    """answer: the reply, in the parts in which it came.

    `early` has the network's ids of texts that went out before the last part was there, by the
    number of the part; of parts that rewrite one another, the id of the one message. `times` says
    after how many seconds each part was there. `routed` is where an engine that answered freely
    led the turn, in the place of where it went; `wished` a function that the person is asked about;
    `verdict` what a free answer is worth; `briefs` those that the engine handed the talk to, one
    after the other.
    """

    parts: list[Reply]
    early: dict[int, str] = Field(default_factory=dict)
    times: list[float] = Field(default_factory=list)
    apology_for: str = ""
    routed: Routed | None = None
    wished: WishedCall | None = None
    verdict: AnswerVerdict | None = None
    briefs: list[str] = Field(default_factory=list)
    asked: list[EngineAsked] = Field(default_factory=list)

    @property
    def final(self) -> list[Reply]:
        """The parts that stand at the end: of each, its last form."""
        after = [*self.parts[1:], None][: len(self.parts)]
        return [
            part
            for part, then in zip(self.parts, after, strict=True)
            if not (then and then.rewrites)
        ]


class SpokenPart(Schema):
    text: str
    clip: ClipRef


class DoubtfulSound(Schema):
    """A word that was said, and what was heard in its place."""

    word: str
    heard: str


class SpeechVerification(Schema):
    """What was heard in the reply's sound: both in spoken form, and the words that did not come
    back."""

    said: str
    heard: str
    doubts: list[DoubtfulSound] = Field(default_factory=list)


class Spoken(Schema):
    """speak: the sound of the reply, part by part; what could not be said; and what was heard in it
    afterwards, where the assistant wants to know."""

    parts: list[SpokenPart]
    warnings: list[str] = Field(default_factory=list)
    asked: list[EngineAsked] = Field(default_factory=list)
    heard_as: SpeechVerification | None = None


class Encoded(Schema):
    """encode: the reply as a voice note."""

    clip: ClipRef


class DeliveredPart(Schema):
    kind: str
    state: str
    external_id: str = ""


class Delivered(Schema):
    """deliver: what went out."""

    parts: list[DeliveredPart]


_NUMBER = re.compile(r"[0-9]{1,3}")
"""Of a choice: neither "²" nor five thousand figures are one."""


@dataclass(frozen=True, kw_only=True)
class TurnSoFar:
    """Everything a stage may look at. What stages added is None until they have. `draft`: it is a
    tester's, whom the draft answers."""

    id: str
    run_id: str
    run: RunKind
    number: int
    channel: str
    conversation_id: str
    contact_id: str
    contact_name: str
    inbound: Inbound
    assistant: AssistantFile
    revision: str
    clock: datetime
    seed: int
    memory: dict[str, Any] = field(default_factory=dict)
    state: ConversationState = field(default_factory=ConversationState)
    standing: str = ""
    answering: str = "assistant"
    draft: bool = False

    fetched: FetchedSound | None = None
    decoded: DecodedClip | None = None
    heard: Heard | None = None
    routed: Routed | None = None
    answered: Answered | None = None
    spoken: Spoken | None = None
    encoded: Encoded | None = None
    delivered: Delivered | None = None

    @property
    def text(self) -> str:
        """What was said, whichever way it came; the question before, where it is to be answered
        again."""
        if self.routed is not None and self.routed.instead:
            return self.routed.instead
        if self.heard is not None:
            return (self.in_call and self.choice) or self.heard.written
        return self.choice or self.inbound.text

    @property
    def files(self) -> list[ReceivedFile]:
        """The pictures and files that came with it and were taken."""
        came = self.fetched.files if self.fetched is not None else []
        return [each for each in came if each.clip is not None]

    @property
    def wants_files(self) -> bool:
        """Whether it came with files, and the assistant takes some."""
        return bool(self.inbound.files) and self.assistant.accepts_files is not None

    @property
    def says_nothing(self) -> bool:
        """Whether it came with files alone, and none was taken."""
        return self.inbound.arrived_as == "file" and not self.files

    @property
    def sent_files(self) -> list[SentFile]:
        """The same, as business logic and engines are told of them."""
        return [
            SentFile(url=each.url, media_type=each.media_type, size=each.clip.size,
                     name=each.name, caption=each.caption)
            for each in self.files if each.clip is not None
        ]  # fmt: skip

    @property
    def choice(self) -> str:
        """The value of what was picked, by a button or by its number."""
        return self.inbound.choice or self._numbered()

    @property
    def in_call(self) -> bool:
        """Whether it was said or pressed in a call."""
        sound = self.inbound.sound
        return bool(self.inbound.key) or (sound is not None and sound.kind == "call")

    def _numbered(self) -> str:
        """The choice behind a number that was typed after a numbered list, or pressed or said in a
        call."""
        choices = self.state.choices
        typed = self.inbound.text.strip().rstrip(".)")
        if self.in_call and self.heard is not None:
            numbers = self.router.language.numbers
            typed = str(numbers.value_of(self.heard.spoken.split()) or "")
        if not self.inbound.key and typed in choices:
            # "2" where 2, 4 and 6 can be chosen is that one, and not the second.
            return typed
        if _NUMBER.fullmatch(typed) and 1 <= int(typed) <= len(choices):
            return choices[int(typed) - 1]
        return ""

    @property
    def no_match(self) -> bool:
        """Whether what was said is taken by nothing: no route, no engine and no document."""
        if self.routed is None or self.routed.route != FALLBACK or self.routed.outcome != "reply":
            return False
        spec = self.assistant.spec(FALLBACK)
        return not self.routed.sure or not (spec.free or spec.logic or spec.documents)

    @property
    def answers_aloud(self) -> bool:
        """Whether a voice note goes out."""
        if self.inbound.spoken_reply is not None:
            return self.inbound.spoken_reply
        wanted = self._wanted
        came_as_sound = self.inbound.sound is not None
        return wanted in ("voice", "both") or (wanted == "same" and came_as_sound)

    @property
    def answers_in_writing(self) -> bool:
        """Whether a text goes out."""
        return self._wanted in ("text", "both") or not self.answers_aloud

    @property
    def heard_only(self) -> bool:
        """Whether the answer is heard and not read."""
        return self.answers_aloud and not self.answers_in_writing

    @property
    def _wanted(self) -> AnswersIn:
        route = self.routed.route if self.routed else ""
        return self.assistant.kinds_for(self.channel, route)

    @property
    def router(self) -> Router:
        return router_of(self.revision, self.assistant)

    @property
    def asked(self) -> list[EngineAsked]:
        """All engines that were asked for it."""
        parts = (self.heard, self.answered, self.spoken)
        return [each for part in parts if part is not None for each in part.asked]

    def with_added(self, stage: StageName, addition: Schema) -> TurnSoFar:
        """The turn with what a stage added."""
        added: dict[str, Any] = {ADDS[stage][0]: addition}
        if isinstance(addition, Answered) and addition.routed is not None:
            added["routed"] = addition.routed
        return replace(self, **added)


ADDS: dict[StageName, tuple[str, type[Schema]]] = {
    "fetch": ("fetched", FetchedSound),
    "decode": ("decoded", DecodedClip),
    "transcribe": ("heard", Heard),
    "route": ("routed", Routed),
    "answer": ("answered", Answered),
    "speak": ("spoken", Spoken),
    "encode": ("encoded", Encoded),
    "deliver": ("delivered", Delivered),
}
"""What each stage adds, and the shape it is recorded in."""

_routers: Recent[str, Router] = Recent(200)
_assistants: Recent[str, AssistantFile] = Recent(200)


def known_assistant(revision: str) -> AssistantFile | None:
    """The assistant of a revision that was read before."""
    return _assistants.get(revision)


def assistant_of(revision: str, files: Mapping[str, str]) -> AssistantFile:
    """The assistant of a revision, read once: a revision never changes."""
    known = _assistants.get(revision)
    if known is None:
        known = read_assistant(files)
        _assistants.keep(revision, known)
    return known


def router_of(revision: str, assistant: AssistantFile) -> Router:
    """The router of a revision, made once: a revision never changes."""
    known = _routers.get(revision)
    if known is None:
        known = assistant.router()
        _routers.keep(revision, known)
    return known
