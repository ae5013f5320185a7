"""A transcript of the core as the shape on the wire."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, cast

from fond_echo.contract.turn import Heard, HeardOtherwise, HeardSegment, HeardWord
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.recognition.transcript import Transcript


def later(heard: Heard, seconds: float) -> Heard:
    """What was heard of a stretch that begins later in a longer sound."""

    def moved(part: HeardWord | HeardSegment) -> dict[str, float]:
        return {"start": round(part.start + seconds, 2), "end": round(part.end + seconds, 2)}

    words = [word.model_copy(update=moved(word)) for word in heard.words]
    segments = [segment.model_copy(update=moved(segment)) for segment in heard.segments]
    beside = [each.model_copy(update=moved(each)) for each in heard.uncovered]
    update = {"words": words, "segments": segments, "uncovered": beside}
    return heard.model_copy(update=update)


def joined(parts: Sequence[Heard]) -> Heard:
    """What was heard of consecutive stretches as one. The confidence is the mean, weighted by
    words; the source is that of all, or dictation where they differ."""
    if len(parts) == 1:
        return parts[0]
    words = [word for part in parts for word in part.words]
    sources = {part.source for part in parts}
    sure = sum(part.confidence * len(part.words) for part in parts) / max(1, len(words))
    return Heard(
        spoken=" ".join(part.spoken for part in parts if part.spoken),
        written=" ".join(part.written for part in parts if part.written),
        confidence=round(sure, 3),
        source=sources.pop() if len(sources) == 1 else "dictation",
        speech_seconds=round(sum(part.speech_seconds for part in parts), 2),
        words=words,
        segments=[segment for part in parts for segment in part.segments],
        uncovered=[each for part in parts for each in part.uncovered],
    )


def as_heard(transcript: Transcript, language: str) -> Heard:
    """The same, as it is recorded and sent."""
    writing = language_of(language).writing
    return Heard(
        spoken=transcript.spoken,
        written=transcript.written,
        confidence=transcript.confidence,
        source=cast(Literal["expected", "dictation", "nothing"], transcript.source),
        speech_seconds=transcript.speech_seconds,
        words=[
            HeardWord(spoken=w.spoken, start=w.start, end=w.end, confidence=w.confidence)
            for w in transcript.words
        ],
        segments=[
            HeardSegment(
                text=writing.written_text([word.spoken for word in words]),
                start=words[0].start,
                end=words[-1].end,
            )
            for words in transcript.segments()
        ],
        alternatives=[
            HeardOtherwise(text=each.text, confidence=each.confidence, expected=each.expected)
            for each in transcript.alternatives
        ],
        uncovered=[
            HeardSegment(text=each.text, start=each.start, end=each.end)
            for each in transcript.uncovered
        ],
    )
