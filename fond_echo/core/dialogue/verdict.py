"""Whether an answer answers its question, judged from words alone: what the two and the sources
share, numbers and names without a source, phrases that go around a question, and what was left to
be filled in. No engine is asked; a second opinion is another matter (`review`).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from fond_echo.core.dialogue.stated import (
    MAX_RECKONED,
    names_in,
    numbers_in,
    numbers_of_times,
    times_in,
    worth_of,
)
from fond_echo.core.language.language import Language
from fond_echo.core.language.placeholders import LEFT_BY_ENGINES

VerdictKind = Literal[
    "answers", "partly", "evades", "another-subject", "unsupported", "unfilled"
]  # fmt: skip

HOLDING: tuple[VerdictKind, ...] = ("answers", "partly")
"""Verdicts with which an answer can go out as it is."""

NEAR = 0.4
"""Sentences of the sources that share at least this much with the question, of what the best one
shares, may hold its answer."""

SHARED = 0.14
"""Words that carry at least so much together are something shared."""

MAX_CHARACTERS = 20_000
"""Of an answer, and of each source: what lies beyond is not looked at."""

MAX_SENTENCES = 400
"""So many sentences of the sources are compared."""


@dataclass(frozen=True)
class Verdict:
    """What an answer is worth.

    Attributes:
        kind: `partly` answers one of several questions; `unsupported` has a number or a name that
            stands in no source.
        reason: in words.
        sentence: of the answer that it is about; "" for the whole.
    """

    kind: VerdictKind
    reason: str = ""
    sentence: str = ""

    @property
    def holds(self) -> bool:
        """Whether the answer can go out as it is."""
        return self.kind in HOLDING


def verdict(
    question: str, answer: str, sources: Sequence[str], language: Language,
    *, earlier: Sequence[str] = (),
) -> Verdict:  # fmt: skip
    """Judge an answer.

    Args:
        question: as it was said or typed.
        answer: as it would go out.
        sources: passages, results of functions, the brief: all that the answer may rest on.
        earlier: the last turns: what was said there is known, and may be what is asked about.
    """
    answer = answer[:MAX_CHARACTERS]
    if (left := LEFT_BY_ENGINES.search(answer)) is not None:
        reason = f"{left[0][:60]!r} was left to be filled in"
        return Verdict("unfilled", reason, _sentence_with(answer, left.start(), language))
    known = [each[:MAX_CHARACTERS] for each in sources]
    judge = _Judge(question, known, [each[:MAX_CHARACTERS] for each in earlier], language)
    if not judge.has_sources:
        # Without a source, what an engine knows of itself cannot be told from what it makes up.
        evades = judge.evades(answer)
        return Verdict("evades", evades) if evades else Verdict("answers")
    for sentence in judge.sentences(answer):
        for reason in judge.without_source(sentence):
            return Verdict("unsupported", reason, sentence)
    if judge.rests_on_what_was_asked(answer):
        return Verdict("answers")
    if phrase := judge.evades(answer):
        return Verdict("evades", phrase)
    return Verdict("another-subject", "it shares nothing with what was asked about")


def _sentence_with(text: str, at: int, language: Language) -> str:
    place = 0
    for sentence in language.writing.sentences_of(text):
        place = text.index(sentence.strip(), place) + len(sentence.strip())
        if place > at:
            return sentence.strip()
    return text[:200]


class _Judge:
    """A question with what is known about it."""

    def __init__(
        self, question: str, sources: Sequence[str], earlier: Sequence[str], language: Language
    ) -> None:
        self._language, self._wording = language, language.wording
        self.has_sources = any(each.strip() for each in sources)
        self._question = self._worth(question)
        self._asked_before = {w for each in earlier for w in self._worth(each)}
        listed = [line for text in sources for line in text.splitlines()]
        self._known = [
            sentence for line in listed for sentence in self.sentences(line)
        ][:MAX_SENTENCES]  # fmt: skip
        everything = [question, *earlier, *sources]
        self._names = {
            word.lower() for text in everything for word in re.findall(r"[^\W\d_]+", text)
        }
        self._names |= {self._wording.stem(each) for each in self._names}
        self._counted = _reckoned(
            {n for text in (*earlier, *sources) for n in self._numbers(text, 0)},
            self._numbers(question),
        ) | numbers_of_times([time for text in (*earlier, *sources) for time in times_in(text)])

    def sentences(self, text: str) -> list[str]:
        """The sentences of a text."""
        return [s.strip() for s in self._language.writing.sentences_of(text) if s.strip()]

    def _worth(self, text: str) -> dict[str, float]:
        """What the words of a text stand for, and how much each carries."""
        return worth_of(text, self._language)

    def _numbers(self, text: str, least: float = 2) -> set[float]:
        return numbers_in(text, self._language, least)

    def evades(self, answer: str) -> str:
        """Why an answer goes around the question; "" where it does not."""
        found = self._wording.EVASIONS.search(answer.replace("’", "'"))
        return f"it goes around the question: {found[0][:60]!r}" if found else ""

    def without_source(self, sentence: str) -> Iterator[str]:
        """Numbers and names in a sentence that stand in no source, and follow from none."""
        for number in sorted(self._numbers(sentence)):
            if number not in self._counted:
                yield f"the number {number:g} stands in no source"
        for name in names_in(sentence, self._language):
            if not self._is_known(name):
                yield f"the name {name!r} stands in no source"

    def _is_known(self, name: str) -> bool:
        word = name.lower()
        return word in self._names or self._wording.stem(word) in self._names

    def rests_on_what_was_asked(self, answer: str) -> bool:
        """Whether an answer shares something with the question, or with what the sources say of
        it."""
        words = self._worth(answer)
        if sum(words.values()) < SHARED and self._says_yes_or_no(answer):
            return True
        numbers = self._numbers(answer, least=1)
        related = [(self._shared(self._worth(each)), each) for each in self._known]
        best = max((share for share, _ in related), default=0.0)
        # Where no source has a word of the question, any of them may hold its answer.
        near = [each for share, each in related if share >= NEAR * best]
        for sentence in near:
            theirs = self._worth(sentence)
            if sum(worth for word, worth in words.items() if word in theirs) >= SHARED:
                return True
            theirs_too = self._numbers(sentence, least=1) | numbers_of_times(times_in(sentence))
            if numbers & theirs_too:
                return True
        if any(self._is_part_of(words, numbers, sentence) for sentence in self._known):
            return True
        direct = sum(worth for word, worth in words.items() if word in self._question)
        return direct >= SHARED or bool(
            self._asked_before and sum(w for x, w in words.items() if x in self._asked_before) > 1
        )

    def _is_part_of(self, words: dict[str, float], numbers: set[float], sentence: str) -> bool:
        """Whether an answer is a part of what one sentence says, as people answer in short: the
        rest of the sentence is what was asked for."""
        theirs, counted = self._worth(sentence), self._numbers(sentence, least=1)
        counted |= numbers_of_times(times_in(sentence))
        shared = [word for word in words if word not in self._wording.PASSING]
        whole = len(theirs) + len(counted)
        inside = all(word in theirs for word in shared) and numbers <= counted
        return inside and 0 < len(shared) + len(numbers) <= min(4, whole - 1)

    def _says_yes_or_no(self, answer: str) -> bool:
        says = self._language.sentences
        first = tuple(self._language.writing.spoken_tokens(answer)[:1])
        return first in ((says["yes"].lower(),), (says["no"].lower(),))

    def _shared(self, words: dict[str, float]) -> float:
        return sum(worth for word, worth in self._question.items() if word in words)


def _reckoned(known: set[float], asked: set[float]) -> set[float]:
    """Numbers that sources have, and where the question counts something what follows from both:
    so many times one, with another added."""
    found = set(known) | set(asked)
    base = sorted(known)[:MAX_RECKONED]
    for count in sorted(asked)[:4]:
        for first in base:
            found |= {count * first, abs(first - count), first + count}
            found |= {round(first + second, 2) for second in base}
            found |= {round(first + count * second, 2) for second in base}
            found |= {(abs(count - first)) * second for second in base[:10]}
    return found | {round(each, 2) for each in found}
