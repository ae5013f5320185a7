"""What was said beside an expected phrase.

An expected phrase may have anything around it, at a price. What that took up is looked at once
more, so that a phrase is accepted only where it accounts for the speech there is: greetings and
thanks belong to any request; anything else was said, too, is taken down, and makes the whole less
sure.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from fond_echo.core.recognition.confidence import WORD, Sureness, believed, chance
from fond_echo.core.recognition.dictation import dictate
from fond_echo.core.recognition.grammar_decoding import (
    WORD_INSERTION_PENALTY,
    FoundWord,
    Reading,
    read,
)
from fond_echo.core.recognition.layers import Matrix
from fond_echo.core.recognition.network import FRAME_SECONDS
from fond_echo.core.recognition.symbols import BLANK
from fond_echo.core.recognition.transcript import Alternative, Expected, Transcript, Uncovered

if TYPE_CHECKING:
    from fond_echo.core.recognition.recognizer import Recognizer, Stretch

LEAST = 3
"""So many frames beside the words must sound like phonemes: of 96 notes in which nothing else was
said, clean, in noise and by telephone, none had more than one; "um" has two, "for two" has five."""

EDGE = 3
"""So many frames before and after what sounds belong to it."""

POLITE = -2.5
"""Greetings and thanks lie no farther from the free path than this, a natural logarithm for each
frame that sounds: of 82 of them in the same notes two did (in 10 dB of noise); of 96 others, none
was nearer than -3.3."""

COMPARED = 3
"""So many readings of dictation are looked at for one that has the expected phrase in it."""

MAX_OTHERS = 5


@dataclass(frozen=True)
class Rest:
    """Frames beside the words of a reading, the end not included; `sounding` of them sound like
    phonemes."""

    start: int
    end: int
    sounding: int


def uncovered(words: Sequence[FoundWord], logs: Matrix) -> list[Rest]:
    """Where something was said before the first word and after the last.

    Args:
        words: of a reading; between them stands what a grammar allows there.
        logs: log probabilities, shape (frames, outputs).
    """
    if not words:
        return []
    found = []
    for begin, end in ((0, words[0].start), (words[-1].end, len(logs))):
        sounds = begin + np.flatnonzero(logs[begin:end].argmax(axis=1) != BLANK)
        if len(sounds) >= LEAST:
            first = max(begin, int(sounds[0]) - EDGE)
            found.append(Rest(first, min(end, int(sounds[-1]) + 1 + EDGE), len(sounds)))
    return found


class Leftover:
    """What was said in a stretch beside what was expected there."""

    def __init__(self, recognizer: Recognizer, stretch: Stretch, expected: Expected) -> None:
        self._recognizer, self._stretch, self._expected = recognizer, stretch, expected
        self._around = recognizer.language.wording.AROUND

    def added_to(
        self, closed: Transcript, best: Reading, freely: Callable[[], list[Reading]]
    ) -> Transcript:
        """An expected phrase that was recognized, with what was said beside it: as it is, where it
        accounts for the speech there is.

        Args:
            best: the reading that the transcript is of.
            freely: gives readings of dictation of the whole stretch.
        """
        logs = self._stretch.logs
        rests = [each for each in uncovered(best.words, logs) if not self._polite(each)]
        if not rests:
            return closed
        readings = freely()[:COMPARED]
        words = self._agreed(best, readings)
        if words is None:
            parts = [self._taken_down(each) for each in rests]
            if all(self._only_around(part) for part in parts):
                return closed
            words = sorted(
                [*best.words, *(word for part in parts for word in part)],
                key=lambda word: word.start,
            )
        elif self._only_around(_beside(words, best)):
            return closed
        return self._together(closed, best, words, rests, readings)

    def _polite(self, rest: Rest) -> bool:
        """Whether a stretch is a greeting or thanks."""
        logs = self._stretch.logs[rest.start : rest.end]
        graph = self._recognizer.graph_of_words(tuple(sorted(self._around)))
        found = read(logs, graph, most=1)
        if not found:
            return False
        score = found[0].score + WORD_INSERTION_PENALTY * len(found[0].words)
        return (score - Sureness.of(logs).free) / rest.sounding >= POLITE

    def _only_around(self, words: Sequence[FoundWord]) -> bool:
        return bool(words) and all(word.word in self._around for word in words)

    def _agreed(self, best: Reading, readings: Sequence[Reading]) -> list[FoundWord] | None:
        """The words of the first reading of dictation that has the phrase in it: it knows the words
        before and after better than a stretch by itself would tell."""
        phrase = [word.word for word in best.words]
        for reading in readings:
            said = [word.word for word in reading.words]
            if any(said[at : at + len(phrase)] == phrase for at in range(len(said))):
                return list(reading.words)
        return None

    def _taken_down(self, rest: Rest) -> list[FoundWord]:
        """The words of a stretch, by itself."""
        logs = self._stretch.logs[rest.start : rest.end]
        readings = dictate(logs, self._recognizer.vocabulary(self._expected), COMPARED)
        for each in readings[:2]:
            if self._only_around(each.words):
                return list(each.words)
        return [
            FoundWord(word.word, word.start + rest.start, word.end + rest.start)
            for word in (readings[0].words if readings else ())
            if self._recognizer.sayable(word, self._expected)
        ]

    def _together(
        self,
        closed: Transcript,
        best: Reading,
        words: Sequence[FoundWord],
        rests: Sequence[Rest],
        readings: Sequence[Reading],
    ) -> Transcript:
        logs, recognizer = self._stretch.logs, self._recognizer
        share = min(1.0, sum(each.sounding for each in rests) / Sureness.of(logs).sounding)
        whole = (1.0 - share) * closed.confidence
        beside = _beside(words, best)
        sure = whole
        if beside:
            measured = recognizer.measured(beside, logs, self._expected.sounds)
            fits = [chance(WORD, measures) for _, measures in measured]
            sure += share * float(np.mean(fits)) * believed(logs)
        others = (
            Alternative(closed.spoken, round(whole, 3), True),
            *closed.alternatives,
            *(Alternative(_text(each.words), round(sure, 3)) for each in readings),
        )
        found = recognizer.transcript(
            Reading(tuple(words), best.score), self._stretch, self._expected, "dictation",
            round(sure, 3), others[:MAX_OTHERS],
        )  # fmt: skip
        return replace(found, uncovered=tuple(self._told(each, words) for each in rests))

    def _told(self, rest: Rest, words: Sequence[FoundWord]) -> Uncovered:
        inside = [word for word in words if rest.start < (word.start + word.end) / 2 < rest.end]
        offset = self._stretch.offset
        return Uncovered(
            _text(inside),
            round(offset + rest.start * FRAME_SECONDS, 2),
            round(offset + rest.end * FRAME_SECONDS, 2),
        )


def _beside(words: Sequence[FoundWord], best: Reading) -> list[FoundWord]:
    """Words that do not lie within the phrase's."""
    first, last = best.words[0].start, best.words[-1].end
    return [word for word in words if not first <= (word.start + word.end) / 2 <= last]


def _text(words: Sequence[FoundWord]) -> str:
    return " ".join(word.word for word in words)
