"""Benches: engines beside one another on the same recordings or texts."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from fond_echo.contract.base import Instant, Name, Schema

FileName = Annotated[str, Field(min_length=1, max_length=200)]
BenchKind = Literal["transcribe", "speak"]


class BenchIn(Schema):
    """A new bench of engines that transcribe, or that speak, in a language."""

    does: BenchKind
    language: str = Field(default="en", min_length=2, max_length=12)


class BenchAnswer(Schema):
    """What an engine made of one recording or text: what was said and what was heard, how long that
    took and cost, and why it failed; of speech, its length, its level in LUFS, and the wait for its
    first sound."""

    engine: Name
    file: FileName
    said: str = Field(min_length=1, max_length=20_000)
    text: str = Field(default="", max_length=20_000)
    seconds: float = Field(default=0.0, ge=0)
    cost: float = Field(default=0.0, ge=0)
    why: str = Field(default="", max_length=600)
    length: float = Field(default=0.0, ge=0)
    level: float = 0.0
    first_seconds: float = Field(default=0.0, ge=0)


class BenchStep(Schema):
    """One place of an alignment: the same, another word, one that is missing, one too many."""

    step: Literal["same", "other", "missing", "extra"]
    said: str
    heard: str


class AlignedAnswer(BenchAnswer):
    """An answer with its words beside those that were said."""

    errors: int
    word_count: int
    steps: list[BenchStep] = Field(default_factory=list)


class StandingOut(Schema):
    """The results of an engine: its word error rate with an interval of 95 %, errors by kind, the
    median and 95th percentile of its wait, what it cost in all and for each answer; of speech, the
    mean length, level and wait for the first sound."""

    engine: Name
    files: int
    failed: int
    rate: float
    low: float
    high: float
    kinds: dict[str, int]
    wait: float
    long_wait: float
    cost: float
    cost_each: float
    worst: list[str]
    length: float = 0.0
    level: float = 0.0
    first_seconds: float = 0.0


class BenchOut(Schema):
    """A bench with its engines, the one with the fewest errors first."""

    name: Name
    does: BenchKind
    language: str
    created_at: Instant
    ranked: list[StandingOut]


class BenchDetail(BenchOut):
    """A bench with every answer."""

    answers: list[AlignedAnswer]


class DifferenceOut(Schema):
    """Two engines, or one in two benches, on the same files: how many more of the words the first
    has wrong, with an interval of 95 % by bootstrap; whether that is more than chance; and the
    files on which the first did better or worse."""

    first: str
    second: str
    files: int
    by: float
    low: float
    high: float
    certain: bool
    better: list[str]
    worse: list[str]
