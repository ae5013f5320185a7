"""Turns taken again, and cases."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from fond_echo.contract.assistants import Files
from fond_echo.contract.base import Instant, JsonObject, Name, Schema
from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.reply import AnswerVerdict
from fond_echo.core.dialogue.compared import ComparedKind
from fond_echo.core.dialogue.verdict import VerdictKind

ReplayBegin = Literal["transcribe", "route", "answer"]


class ReplayIn(Schema):
    """What a turn is replayed on: `revision` is draft, live, or a stored revision; or `files` as
    they are. The replay begins at a stage and keeps the results of the stages before it:
    `transcribe` decodes and hears its sound again, `route` begins with the words, `answer` with the
    route and slots. With `ask`, engines that answer freely are asked for real, which may cost; else
    the answer that was recorded counts, where brief and question are the same."""

    revision: str = Field(default="draft", max_length=64)
    files: Files | None = None
    begin: ReplayBegin = "route"
    ask: bool = False


class ReplaysIn(ReplayIn):
    """Which turns of an assistant are replayed, the latest first; `cursor` continues a list."""

    channel: str = Field(default="", max_length=60)
    text: str = Field(default="", max_length=200)
    since: Instant | None = None
    until: Instant | None = None
    cursor: str = Field(default="", max_length=60)
    limit: int = Field(default=50, ge=1, le=200)


class StageTime(Schema):
    """How long a stage took."""

    stage: str
    milliseconds: float


class RouteChance(Schema):
    """How likely a route was."""

    route: str
    confidence: float


class TurnOutcome(Schema):
    """The outcome of a turn. `not_run` says why business logic or an engine was not asked;
    `stages` how long each took, `scores` the likeliest routes; `voice` is who speaks, and `clip`
    the sound that went out; `asked` the engines and functions that were asked for a replay;
    `verdict` what a free answer is worth."""

    text: str
    route: str = ""
    confidence: float = 0.0
    because: str = ""
    outcome: str = ""
    slots: JsonObject = Field(default_factory=dict)
    written: str = ""
    spoken: str = ""
    choices: list[str] = Field(default_factory=list)
    error: str = ""
    not_run: str = ""
    milliseconds: float = 0.0
    stages: list[StageTime] = Field(default_factory=list)
    scores: list[RouteChance] = Field(default_factory=list)
    voice: str = ""
    clip: str = ""
    asked: list[EngineAsked] = Field(default_factory=list)
    verdict: AnswerVerdict | None = None


class SentenceCompared(Schema):
    """A sentence of one answer beside the one of the other that is about the same; empty where
    there is none. `marks` says which numbers, names and negations only one of them has."""

    kind: ComparedKind
    before: str
    after: str
    marks: list[str]


class ReplayOut(Schema):
    """A turn before and after, with the differences, the most important first: `wording` where the
    answer says the same in other words. `sentences` are those of both answers, side by side, where
    they are not the same."""

    turn: str
    revision: str
    before: TurnOutcome
    after: TurnOutcome
    changed: list[str]
    sentences: list[SentenceCompared] = Field(default_factory=list)


class VerdictCount(Schema):
    """How many free answers were judged so then, and now."""

    verdict: VerdictKind
    before: int
    after: int


class ReplaysOut(Schema):
    """A page of replays; `next` is the cursor of the next page, empty on the last one. `verdicts`
    counts what the free answers of the page are worth."""

    items: list[ReplayOut]
    next: str
    skipped: int = 0
    verdicts: list[VerdictCount] = Field(default_factory=list)


class CaseOut(Schema):
    """The result of a case: whether it passed, and which expectations failed."""

    case: Name
    passed: bool
    failures: list[str] = Field(default_factory=list)
    seconds: float = 0.0
    form: TurnOutcome | None = None


class CasesOut(Schema):
    """The cases of a revision, run."""

    revision: str
    cases: list[CaseOut]


class CorrectionIn(Schema):
    """How a turn is corrected: the route that was meant, whose example the words become (or
    others), and the name of the case that it is kept as; without one, it is not kept."""

    route: Name
    example: str = Field(default="", max_length=300)
    case: str = Field(default="", max_length=60, pattern=r"^([a-z0-9][a-z0-9-]*)?$")


class CorrectionOut(Schema):
    """The outcome of a corrected turn on the new draft. `draft` is empty if the turn would still
    take another route; then nothing was changed."""

    example: str
    replay: ReplayOut
    draft: str
    case: str


class GapOut(Schema):
    """Turns with the same meaning that no route took, or whose free answer did not answer: a
    wording to add as an example, the nearest route, a turn to listen to, and how many were judged
    how."""

    example: str
    count: int
    turns: list[str]
    wordings: list[str]
    nearest: str
    confidence: float
    heard: str
    verdicts: dict[str, int] = Field(default_factory=dict)


class MispronouncedOut(Schema):
    """A word that the recognizer did not always hear in replies: how often it was said and missed,
    what was heard in its place, and a lexicon entry with its present pronunciation."""

    word: str
    said: int
    missed: int
    heard: list[str]
    turns: list[str]
    lexeme: str


class KeptCase(Schema):
    """A turn as a case: its file, and its recording in base64 where it has one."""

    name: Name
    assistant: Name
    file: str
    text: str
    sound_file: str = ""
    sound: str = ""
