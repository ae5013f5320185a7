"""A transcript of the core as the shape on the wire."""

from __future__ import annotations

from typing import Literal, cast

from fond_echo.contract.turn import Heard, HeardOtherwise, HeardSegment, HeardWord
from fond_echo.core.language.written import written_text
from fond_echo.core.recognition.transcript import Transcript


def as_heard(transcript: Transcript) -> Heard:
    """The same, as it is recorded and sent."""
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
                text=written_text([word.spoken for word in words]),
                start=words[0].start,
                end=words[-1].end,
            )
            for words in transcript.segments()
        ],
        alternatives=[
            HeardOtherwise(text=each.text, confidence=each.confidence)
            for each in transcript.alternatives
        ],
    )
