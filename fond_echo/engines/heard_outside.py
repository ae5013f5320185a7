"""What is made of what outside services give: transcripts in parts, sound, and the language of an
answer."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from fond_echo.connectors.errors import WrongAnswer
from fond_echo.contract.turn import Heard, HeardSegment
from fond_echo.core.audio.activity import trimmed
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.level import normalized
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.language.reads_as import other_language
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.recognition.symbols import RATE


def heard_as(
    text: str, sure: float, seconds: float, language: str, segments: Sequence[HeardSegment] = ()
) -> Heard:
    """A transcript that a service gave, as one of ours."""
    spoken = " ".join(language_of(language).writing.spoken_tokens(text))
    return Heard(
        spoken=spoken, written=text, confidence=max(0.0, min(1.0, sure)),
        source="dictation" if spoken else "nothing",
        speech_seconds=round(seconds, 2), segments=list(segments) if spoken else [],
    )  # fmt: skip


def in_language(text: str, language: str) -> None:
    """Raises WrongAnswer where a text is in another language."""
    if other := other_language(text, language):
        raise WrongAnswer(f"its answer is in the language {other}, not {language}",
                          remedy="say in the brief which language it answers in")  # fmt: skip


def mono_speech(clip: Clip) -> Clip:
    """Speech as ours is: without silence around it, at our rate and level."""
    return normalized(at_rate(trimmed(clip)[0], RATE))


def seconds_in(value: Any) -> float:
    """Seconds that a service gave; 0 where it gave none."""
    try:
        return max(0.0, float(value))
    except (TypeError, ValueError):
        return 0.0


def listed(value: Any) -> list[Any]:
    """A list that a service gave; empty where it gave none."""
    return value if isinstance(value, list) else []


def joined(parts: list[Heard]) -> Heard:
    """Transcripts of consecutive stretches as one."""
    spoken = [each for each in parts if each.source != "nothing"]
    if not spoken:
        return parts[0]
    seconds = sum(each.speech_seconds for each in spoken)
    return Heard(
        spoken=" ".join(each.spoken for each in spoken),
        written=" ".join(each.written for each in spoken),
        confidence=sum(each.confidence * each.speech_seconds for each in spoken) / seconds,
        source="dictation",
        speech_seconds=round(seconds, 2),
        segments=[segment for each in spoken for segment in each.segments],
    )
