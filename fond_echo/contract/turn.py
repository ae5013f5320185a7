"""A turn: the one shape in which whatever comes in reaches the logic."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from fond_echo.contract.base import Schema
from fond_echo.contract.engine import EngineAsked

Cause = Literal["inbound", "greeting", "silence", "answered-call", "operator"]
ArrivedAs = Literal[
    "text", "voice-note", "audio-file", "choice", "key", "speech", "file", "other", "joined"
]
RunKind = Literal["live", "replay", "try", "case"]
StageName = Literal[
    "receive", "fetch", "decode", "transcribe", "route", "answer", "speak", "encode", "deliver"
]
STAGES: tuple[StageName, ...] = (
    "receive",
    "fetch",
    "decode",
    "transcribe",
    "route",
    "answer",
    "speak",
    "encode",
    "deliver",
)


class HeardWord(Schema):
    """A word of a transcript, in seconds from the start of the sound."""

    spoken: str
    start: float
    end: float
    confidence: float


class HeardSegment(Schema):
    """Words that were said without a pause between them, in seconds from the start."""

    text: str
    start: float
    end: float


class HeardOtherwise(Schema):
    """Another hypothesis for the same sound, and whether it is an expected phrase."""

    text: str
    confidence: float
    expected: bool = False


class Reading(Schema):
    """What one of two engines heard in the same sound; `used` marks the one whose result was
    taken."""

    engine: str
    text: str
    confidence: float
    expected: bool = False
    used: bool = False


class Partial(Schema):
    """The words so far that a service heard, and how many seconds after the beginning of speech it
    sent them."""

    text: str
    seconds: float


class Heard(Schema):
    """A transcript: spoken tokens and written text, with times and doubt.

    `source` is "expected" for one of the phrases that could be understood, "dictation" for
    words found freely, "nothing" where there was no speech. `asked` are the engines that the
    assistant names, as they were asked; `readings` what both heard, where two were asked;
    `partials` what was heard in a call before it was all said. `uncovered` are stretches beside an
    expected phrase in which something else was said: their words stand in the text, too.
    """

    spoken: str
    written: str
    confidence: float = Field(ge=0, le=1)
    source: Literal["expected", "dictation", "nothing"]
    speech_seconds: float = 0.0
    words: list[HeardWord] = Field(default_factory=list)
    segments: list[HeardSegment] = Field(default_factory=list)
    alternatives: list[HeardOtherwise] = Field(default_factory=list)
    uncovered: list[HeardSegment] = Field(default_factory=list)
    readings: list[Reading] = Field(default_factory=list)
    partials: list[Partial] = Field(default_factory=list)
    asked: list[EngineAsked] = Field(default_factory=list)
