"""What was expected and what was heard."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from fond_echo.core.recognition.errors import NothingExpected
from fond_echo.core.recognition.graph import WordNetwork

SEGMENT_PAUSE = 0.5


@dataclass(frozen=True)
class Expected:
    """What can be understood here and now.

    Attributes:
        phrases: whole utterances, as text; the sound is read against these first.
        names: words that dictation must know too, in their written form.
        hints: what may well be said, as text; dictation finds its words and their order likelier.
        sounds: words that are said in another way than the lexicon has, their phonemes apart by
            spaces.
        network: what may be said, where it is more than phrases; the phrases stand in it too.
        only: nothing else can be said: the likeliest of it is chosen, whatever was.

    Raises:
        NothingExpected: only what is expected can be said, and nothing is.
    """

    phrases: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    network: WordNetwork | None = None
    hints: tuple[str, ...] = ()
    sounds: tuple[tuple[str, str], ...] = ()
    only: bool = False

    def __post_init__(self) -> None:
        if self.only and not self.phrases and not self.network:
            raise NothingExpected(
                "only what is expected is to be heard, but nothing is",
                remedy="give phrases, a grammar or an assistant too",
            )


@dataclass(frozen=True)
class Word:
    """A word that was heard, in seconds from the start of the clip.

    `confidence` is 0 to 1: how close the word's sounds came to the best any sounds could.
    """

    spoken: str
    start: float
    end: float
    confidence: float


@dataclass(frozen=True)
class Alternative:
    """Another reading, with the confidence it would have had; whether it is one of what was
    expected."""

    text: str
    confidence: float
    expected: bool = False


@dataclass(frozen=True)
class Uncovered:
    """What was said beside an expected phrase, in seconds from the start of the clip; the text is
    empty where no words were found in it."""

    text: str
    start: float
    end: float


@dataclass(frozen=True)
class Transcript:
    """What was heard.

    Attributes:
        words: in order, spoken form, with their times.
        written: the same with digits, capitals and a closing sign.
        confidence: 0 to 1 that the words are right.
        source: "expected" when one of the expected phrases was recognized and accounts for the
            speech there is, "dictation" when words were found freely, be it beside such a phrase,
            "nothing" when there was no speech.
        speech_seconds: how much of the clip was speech.
        alternatives: other expected phrases, best first.
        uncovered: stretches beside an expected phrase in which something else was said.
    """

    words: tuple[Word, ...]
    written: str
    confidence: float
    source: str
    speech_seconds: float
    alternatives: tuple[Alternative, ...] = field(default=())
    uncovered: tuple[Uncovered, ...] = field(default=())

    def segments(self, pause: float = SEGMENT_PAUSE) -> list[tuple[Word, ...]]:
        """The words in stretches, cut where nothing is said for at least `pause` seconds."""
        found: list[list[Word]] = []
        for word in self.words:
            if found and word.start - found[-1][-1].end < pause:
                found[-1].append(word)
            else:
                found.append([word])
        return [tuple(each) for each in found]

    @property
    def spoken(self) -> str:
        """The spoken tokens in one line."""
        return " ".join(word.spoken for word in self.words)


NOTHING = Transcript((), "", 0.0, "nothing", 0.0)
"""What silence is heard as."""


def joined(parts: Sequence[Transcript]) -> Transcript:
    """Transcripts of consecutive stretches as one.

    The confidence is the mean, weighted by words; the source is that of all, or dictation where
    they differ.
    """
    if len(parts) == 1:
        return parts[0]
    words = tuple(word for part in parts for word in part.words)
    sources = {part.source for part in parts}
    weight = sum(len(part.words) for part in parts)
    trust = sum(part.confidence * len(part.words) for part in parts) / max(1, weight)
    return Transcript(
        words,
        " ".join(part.written for part in parts if part.written),
        round(trust, 3),
        sources.pop() if len(sources) == 1 else "dictation",
        round(sum(part.speech_seconds for part in parts), 2),
    )
