"""What the API gives and takes about assistants: their files, their errors, trying them."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from fond_echo.contract.base import Instant, JsonObject, Name, Schema
from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.reply import Reply
from fond_echo.contract.turn import Heard


class FileErrorOut(Schema):
    file: str
    line: int
    column: int
    what: str
    remedy: str = ""


Files = Annotated[dict[str, str], Field(min_length=1, max_length=500)]


class AssistantFiles(Schema):
    """The files of an assistant by name; `assistant.yaml` is among them."""

    files: Files


class StarterAnswer(Schema):
    """A question that people ask, and what is always answered."""

    question: str = Field(min_length=1, max_length=300)
    answer: str = Field(min_length=1, max_length=2_000)


class StarterIn(Schema):
    """What a new assistant is made of: each has a sensible value already. `knowledge` are documents
    by name, as they stand in a folder; `engine` one that is connected and answers what nobody wrote
    down, as `about` tells it."""

    title: str = Field(default="", max_length=100)
    greeting: str = Field(default="", max_length=500)
    about: str = Field(default="", max_length=5_000)
    voice: str = Field(default="whimbrel", max_length=60)
    answers_in: Literal["same", "text", "voice", "both"] = "same"
    knowledge: dict[str, str] = Field(default_factory=dict, max_length=100)
    engine: str = Field(default="", max_length=60)
    questions: list[StarterAnswer] = Field(default_factory=list, max_length=50)


class DraftIn(AssistantFiles):
    """Files that become an assistant's draft. `if_revision` is the revision that they were made
    from: if the draft is another one by then, it is not replaced."""

    if_revision: str = Field(default="", max_length=64)


class DraftOut(AssistantFiles):
    """An assistant's draft, and the revision that its files are."""

    revision: str


class PublishIn(Schema):
    """What is made live: the draft, or another stored `revision`. `if_revision` is the live
    revision that it replaces: if another one is live by then, nothing is published. `force`
    publishes though a case fails, or a place was not filled in; `why` is kept."""

    revision: str = Field(default="", max_length=64)
    if_revision: str = Field(default="", max_length=64)
    force: bool = False
    why: str = Field(default="", max_length=500)


class PastOut(Schema):
    """Something that happened to an assistant: it was drafted or published, by whom and why."""

    at: Instant
    what: str
    revision: str
    by: str
    why: str
    forced: list[str] = Field(default_factory=list)


class AssistantOut(Schema):
    name: Name
    draft: str | None
    live: str | None
    changed_at: Instant


class Checked(Schema):
    """The errors and the warnings of an assistant's files."""

    errors: list[FileErrorOut]
    warnings: list[FileErrorOut]


class TryIn(Schema):
    """A message to try: a text, recorded (`sound`, as base64 or a data URI), or picked. `files` are
    tried as they are; without them the draft is. `state` is the one that the try before returned.
    With `ask`, engines that answer freely are asked for real, which may cost; functions that ask
    the person first are never called."""

    text: str = Field(default="", max_length=4_000)
    sound: str = Field(default="", max_length=8_000_000)
    choice: str = Field(default="", max_length=200)
    command: bool = False
    files: Files | None = None
    ask: bool = False
    state: JsonObject = Field(default_factory=dict)


class WidenIn(Schema):
    """What other wordings are proposed for: `route`, or every route with examples; of `files` as
    they are, or of the draft. With `ask` the assistant's engine of free answers proposes them,
    which may cost; else everyday frames do."""

    route: str = Field(default="", max_length=60)
    count: int = Field(default=10, ge=1, le=30)
    files: Files | None = None
    ask: bool = False


class ProposalOut(Schema):
    """A wording that may be added to a route's examples. `near` is another route that would take
    it: then it is better left out."""

    route: Name
    example: str
    near: str = ""
    by: Literal["engine", "frames"]


class ProposalsOut(Schema):
    """Wordings that are proposed, and what was asked of engines for them."""

    proposals: list[ProposalOut]
    asked: list[EngineAsked] = Field(default_factory=list)


class TryScore(Schema):
    route: str
    score: float
    confidence: float
    because: str


class Tried(Schema):
    """The result of a try: what was heard in a recording, the route and why, every route's score,
    the reply, and the state for the next try. `not_run` says why business logic or an engine was
    not asked; `asked` what was, with what it cost."""

    heard: Heard | None = None
    route: str
    by: str
    outcome: str
    because: str
    scores: list[TryScore]
    slots: JsonObject
    replies: list[Reply]
    spoken: str
    not_run: str = ""
    asked: list[EngineAsked] = Field(default_factory=list)
    state: JsonObject


class LastCases(Schema):
    """When the cases of a revision were last run, how many held, and the names of the others."""

    at: Instant
    passed: int
    failed: list[str]


class RevisionOut(Schema):
    """A revision of an assistant that was kept."""

    digest: str
    created_at: Instant
    draft: bool
    live: bool
    cases: LastCases | None = None
