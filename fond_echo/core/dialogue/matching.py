"""How like its examples an utterance is: words by how telling they are, their letters, their
sound.

A word is worth its inverse frequency over all examples, so that "Brannick" decides and "the" does
not; filler words are worth little. Words count as what they stand for (`wording`), numbers, dates
and times as what kind of thing they are. A word that is in no example counts in part for those
that look or sound like it: people mistype, and recognizers mishear.
"""

from __future__ import annotations

import itertools
import math
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from fond_echo.core.dialogue.examples import ExampleText, reader_of
from fond_echo.core.language.language import Language, Wording
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.language.sounding import sound_likeness

NEAR = 0.62
"""Words less alike than this, by letters or by sound, are different words."""

FILLER_WORTH, ASKING_WORTH, KIND_WORTH = 0.12, 0.35, 0.6
UNSEEN = 1.1
"""What a word in no example is worth, beside one that is in a single example."""

SAID = 0.4
"""The share that what was said has in the measure; the example has the rest."""

LETTERS = 0.15
ORDER = 0.10
REFINED = 24
"""So many of the best examples are compared in letters and order too."""


SAME, SAME_MEANT = 0.97, 0.93
"""The least that an example is worth that was said word for word, or in words that stand for the
same; the most that the latter is worth is a hundredth less than the former."""

SHOWN = 20
"""So many routes are reported at most, the best."""


@dataclass(frozen=True)
class Match:
    """A route's example that fits best, 0 to 1, and the words that made it fit; a word that is
    only like another stands as "tikket≈ticket"."""

    route: str
    score: float
    example: str
    shared: tuple[str, ...]


@lru_cache(maxsize=50_000)
def trigrams(word: str) -> frozenset[str]:
    """Character trigrams with the word's edges marked."""
    marked = f"#{word}#"
    return frozenset(marked[k : k + 3] for k in range(max(1, len(marked) - 2)))


def likeness(left: str, right: str) -> float:
    """The share of trigrams two words have in common (Dice), 0 to 1."""
    if left == right:
        return 1.0
    a, b = trigrams(left), trigrams(right)
    return 2.0 * len(a & b) / (len(a) + len(b))


class ExampleMatcher:
    """Compares utterances with the examples of all routes at once.

    Args:
        examples: route → its examples as (text, spoken tokens).
        language: of the examples; English if not given.
    """

    def __init__(
        self,
        examples: Mapping[str, Sequence[tuple[str, Sequence[str]]]],
        language: Language | None = None,
    ) -> None:
        language = language or language_of()
        self.wording, self._letters = language.wording, language.letters
        self._reader = reader_of(language)
        self.routes = list(examples)
        self.texts: list[str] = []
        self._examples: list[ExampleText] = []
        self._known: dict[tuple[str, bool], dict[str, float]] = {}
        self._spelt: dict[str, str] = {}
        self._route: list[int] = []
        for number, name in enumerate(self.routes):
            for text, tokens in examples[name]:
                if tokens:
                    self.texts.append(text)
                    self._examples.append(self._reader.of_tokens(tuple(tokens)))
                    self._route.append(number)
        self._by_text = dict(zip(self.texts, self._examples, strict=True))
        for token in {token for each in self._examples for token in each.tokens}:
            self._spelt[token] = self.wording.concept(token)
        postings: dict[str, list[int]] = defaultdict(list)
        for number, example in enumerate(self._examples):
            for word in example.distinct:
                postings[word].append(number)
        self._worth = worths(
            {word: len(places) for word, places in postings.items()}, len(self._examples),
            self.wording,
        )  # fmt: skip
        self._unseen = math.log(2.0 + len(self._examples)) * UNSEEN
        self._postings = {word: np.array(places) for word, places in postings.items()}
        self._totals = np.array(
            [sum(map(self._worth.__getitem__, each.distinct)) for each in self._examples] or [0.0]
        )
        # Examples of a route stand together: where those of each begin.
        first = np.searchsorted(self._route, np.arange(len(self.routes) + 1))
        self._full = np.flatnonzero(np.diff(first))
        self._firsts = first[self._full]
        # Letters and sounds are compared with words as they stand in the examples.
        self._by_trigram: dict[str, set[str]] = defaultdict(set)
        self._by_first: dict[str, list[str]] = defaultdict(list)
        for word, meant in self._spelt.items():
            if meant not in self._worth or meant in self.wording.FILLERS:
                continue
            for part in trigrams(word):
                self._by_trigram[part].add(word)
            if len(word) > 3:
                self._by_first[_hard(word)].append(word)

    def __len__(self) -> int:
        return len(self.texts)

    def worth(self, word: str) -> float:
        """How telling a word is; one in no example nearly as telling as any can be."""
        if word in self._worth:
            return self._worth[word]
        return self._unseen * weight_of(word, self.wording)

    def by_route(self) -> Iterator[tuple[str, ExampleText]]:
        """Every example with its route."""
        for route, example in zip(self._route, self._examples, strict=True):
            yield self.routes[route], example

    def example(self, number: int) -> tuple[str, ExampleText]:
        """An example by its number, with its route."""
        return self.routes[self._route[number]], self._examples[number]

    def text(self, example: str) -> ExampleText:
        """An example by how it is written."""
        return self._by_text[example]

    def read(
        self, tokens: Sequence[str], *, heard: bool = False
    ) -> tuple[list[str], dict[str, str], list[dict[str, float]]]:
        """What spoken tokens stand for, each once; the token that each is spelt as; and the words
        of the examples that each may be, with how far."""
        marked = self._reader.marked(tokens)
        said = list(dict.fromkeys(self.wording.concepts(marked)))
        spelt = {self.wording.concept(token): token for token in marked}
        return said, spelt, [self._near(word, spelt.get(word, word), heard) for word in said]

    def compared(
        self, tokens: Sequence[str], *, heard: bool = False, without: int | None = None
    ) -> tuple[list[Match], float]:
        """The routes that fit best, at most `SHOWN` and the best first, each by the example that is
        most like the utterance; and the share of what the utterance says, by worth, that no example
        has a word for.

        Args:
            tokens: spoken tokens.
            heard: they may have been misheard: then a word may stand for another that sounds like
                it. In what was typed, a word of the language stands for itself.
            without: an example's number that is left out, to judge that example itself.
        """
        if not self.texts or not tokens:
            return [], 1.0
        said, _, nears = self.read(tokens, heard=heard)
        common = np.zeros(len(self.texts))
        took: dict[str, dict[str, float]] = {}
        for word, near in zip(said, nears, strict=True):
            took[word] = near
            for other, degree in near.items():
                gain = degree * (SAID * self.worth(word) + (1.0 - SAID) * self._worth[other])
                places = self._postings[other]
                # A word that is like several in one example counts once, as the likest of them.
                common[places] += gain
        whole = SAID * sum(map(self.worth, said)) + (1.0 - SAID) * self._totals
        words = np.minimum(1.0, common / np.maximum(whole, 1e-9))
        if without is not None:
            words[without] = 0.0
        unknown = sum(self.worth(word) for word in said if not took[word])
        share = unknown / max(sum(map(self.worth, said)), 1e-9)
        found = self._refined(tokens, said, words, took)
        return sorted(found, key=lambda each: -each.score)[:SHOWN], share

    def _refined(
        self,
        tokens: Sequence[str],
        said: list[str],
        words: npt.NDArray[np.float64],
        took: dict[str, dict[str, float]],
    ) -> list[Match]:
        """The best of each route by words alone; letters and order too, for the examples that may
        yet be a route's best."""
        likely = _largest(words, REFINED)
        line = " ".join(tokens)
        pairs = set(itertools.pairwise(said))
        found = self._first_of_each(words)
        for number in likely:
            example = self._examples[number]
            letters = likeness(line, example.line)
            theirs = example.pairs
            order = 2.0 * len(pairs & theirs) / max(1, len(pairs) + len(theirs))
            score = (1.0 - LETTERS - ORDER) * words[number] + LETTERS * letters + ORDER * order
            if line == example.line:
                score = max(score, SAME)
            elif said == list(example.meant):
                score = min(max(score, SAME_MEANT), SAME - 0.01)
            route = self._route[number]
            if route not in found or score > found[route].score:
                shared = self._shared(said, set(example.distinct), took)
                score = round(min(1.0, float(score)), 4)
                found[route] = Match(self.routes[route], score, self.texts[number], shared)
        return [found[route] for route in sorted(found)]

    def _first_of_each(self, words: npt.NDArray[np.float64]) -> dict[int, Match]:
        """The best example by words alone of every route that may be among the best."""
        best = np.maximum.reduceat(words, self._firsts)
        found: dict[int, Match] = {}
        for place in _largest(best, SHOWN + REFINED):
            first = self._firsts[place]
            last = self._firsts[place + 1] if place + 1 < len(self._firsts) else len(words)
            number = int(first + words[first:last].argmax())
            score = round((1.0 - LETTERS - ORDER) * float(best[place]), 4)
            route = int(self._full[place])
            found[route] = Match(self.routes[route], score, self.texts[number], ())
        return found

    def _near(self, meant: str, word: str, heard: bool) -> dict[str, float]:
        """The words of the examples that a word may be, by what it stands for and as it is spelt,
        and how far."""
        key = word, heard
        if key not in self._known:
            if len(self._known) > 20_000:
                self._known.clear()
            self._known[key] = self._found_near(meant, word, heard)
        return self._known[key]

    def _found_near(self, meant: str, word: str, heard: bool) -> dict[str, float]:
        if meant in self._worth:
            return {meant: 1.0}
        if word in self.wording.FILLERS or word.startswith("‹") or len(word) < 3:
            return {}
        if self.wording.common(word) or (not heard and self.wording.known(word)):
            return {}
        counts = Counter(
            other for part in trigrams(word) for other in self._by_trigram.get(part, ())
        )
        candidates = [other for other, _ in counts.most_common(12)]
        alike = (w for w in self._by_first.get(_hard(word), []) if abs(len(w) - len(word)) <= 2)
        candidates += list(alike)[:25]
        degrees = {
            other: max(likeness(word, other), 0.97 * sound_likeness(word, other, self._letters))
            for other in dict.fromkeys(candidates)
            if not other.startswith("‹")
        }
        near = {other: degree for other, degree in degrees.items() if degree >= NEAR}
        likest = sorted(near.items(), key=lambda each: each[1])[-2:]
        return {self._spelt[other]: degree * 0.9 for other, degree in likest}

    def _shared(
        self, said: Sequence[str], example: set[str], took: dict[str, dict[str, float]]
    ) -> tuple[str, ...]:
        found = []
        for word in said:
            for other, degree in took[word].items():
                if other in example and word not in self.wording.FILLERS:
                    found.append(word if degree == 1.0 else f"{word}≈{other}")
                    break
        return tuple(found)


def weight_of(word: str, wording: Wording) -> float:
    """How much a word that is as rare as any other tells."""
    if word in wording.FILLERS:
        return FILLER_WORTH
    if word in wording.ASKING:
        return ASKING_WORTH
    return KIND_WORTH if word.startswith("‹") else 1.0


def worths(seen: Mapping[str, int], examples: int, wording: Wording) -> dict[str, float]:
    """How telling each word is.

    Args:
        seen: in how many examples a word is.
        examples: how many there are.
    """
    return {
        word: math.log(1.0 + (examples + 1) / count) * weight_of(word, wording)
        for word, count in seen.items()
    }


def _largest(values: npt.NDArray[np.float64], most: int) -> list[int]:
    """Where the largest values stand that are not 0, in the order of their places."""
    most = min(most, len(values))
    places = np.sort(np.argpartition(-values, most - 1)[:most])
    return [place for place in places.tolist() if values[place]]


def _hard(word: str) -> str:
    """The first sound of a word, roughly, by its first letter."""
    return {"c": "k", "q": "k", "z": "s", "v": "f", "j": "g"}.get(word[0], word[0])
