"""Two answers to the same question held side by side, sentence by sentence: which say the same in
other words, and which say something else."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from fond_echo.core.dialogue.stated import names_in, negations_in, numbers_in, worth_of
from fond_echo.core.language.language import Language

ComparedKind = Literal["same", "wording", "changed", "added", "left-out"]

MAX_SENTENCES = 60
"""Of each answer; what lies beyond is held against the other's rest as one sentence."""

MAX_CHARACTERS = 20_000
"""Of each answer; what lies beyond is not looked at."""

PAIRED, REWORDED = 0.2, 0.4
"""Sentences that share so much of what their words carry are about the same; and, where numbers,
names and negations are the same, say the same."""

SAYS_LITTLE = 0.3
"""A sentence whose words carry less, and that has no number or name, is politeness."""


@dataclass(frozen=True)
class ComparedSentence:
    """A sentence of one answer beside that of the other; "" where there is none.

    Attributes:
        marks: the numbers, names and negations that only one of the two has.
    """

    kind: ComparedKind
    before: str
    after: str
    marks: tuple[str, ...] = ()


def compared(before: str, after: str, language: Language) -> list[ComparedSentence]:
    """The sentences of two answers, in the order of the later one; those that only the earlier one
    has come last."""
    mine, theirs = (_sentences(text[:MAX_CHARACTERS], language) for text in (before, after))
    worths = [worth_of(each, language) for each in mine]
    left, found = dict(enumerate(mine)), list[ComparedSentence]()
    for sentence in theirs:
        exact = next((place for place, each in left.items() if each == sentence), None)
        if exact is not None:
            found.append(ComparedSentence("same", left.pop(exact), sentence))
            continue
        worth = worth_of(sentence, language)
        alike = {place: _shared(worths[place], worth) for place in left}
        place = max(alike, key=alike.__getitem__, default=None)
        if place is None or alike[place] < PAIRED:
            found.append(_alone("added", "", sentence, worth, language))
            continue
        earlier = left.pop(place)
        marks = tuple(_marks(earlier, sentence, language))
        same = not marks and alike[place] >= REWORDED
        kind: ComparedKind = "wording" if same else "changed"
        found.append(ComparedSentence(kind, earlier, sentence, marks))
    for place, each in left.items():
        found.append(_alone("left-out", each, "", worths[place], language))
    return found


def says_the_same(sentences: Sequence[ComparedSentence]) -> bool:
    """Whether two answers differ in their wording only."""
    return all(each.kind in ("same", "wording") for each in sentences)


def _sentences(text: str, language: Language) -> list[str]:
    lines = [line for line in text.splitlines() if line.strip()]
    found = [s.strip() for line in lines for s in language.writing.sentences_of(line) if s.strip()]
    rest = found[MAX_SENTENCES:]
    return found[:MAX_SENTENCES] + ([" ".join(rest)] if rest else [])


def _alone(
    kind: ComparedKind, before: str, after: str, worth: dict[str, float], language: Language
) -> ComparedSentence:
    marks = tuple(_marks(before, after, language))
    wording = language.wording
    polite = wording.PLEASANT | wording.REPLYING
    told = sum(each for word, each in worth.items() if word not in polite)
    said = told >= SAYS_LITTLE or marks
    return ComparedSentence(kind if said else "wording", before, after, marks)


def _shared(one: dict[str, float], other: dict[str, float]) -> float:
    """How much of what two sentences carry they share, 0 to 1 (Dice's coefficient, weighed)."""
    both = sum(min(worth, other[word]) for word, worth in one.items() if word in other)
    total = sum(one.values()) + sum(other.values())
    return 2 * both / total if total else 0.0


def _marks(before: str, after: str, language: Language) -> Iterator[str]:
    """What only one of two sentences states, in words."""
    one, other = (sorted(numbers_in(each, language)) for each in (before, after))
    yield from (f"the number {n:g} is gone" for n in one if n not in other)
    yield from (f"the number {n:g} is new" for n in other if n not in one)
    names = [set(names_in(each, language)) for each in (before, after)]
    yield from (f"the name {n!r} is gone" for n in sorted(names[0]) if n not in after)
    yield from (f"the name {n!r} is new" for n in sorted(names[1]) if n not in before)
    if bool(negations_in(before, language)) != bool(negations_in(after, language)):
        yield "only one of them says that it is not so"
