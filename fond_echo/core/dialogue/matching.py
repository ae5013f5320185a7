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
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from fond_echo.core.grammar.match import spot
from fond_echo.core.grammar.model import Reference
from fond_echo.core.language.language import Language
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


@dataclass(frozen=True)
class Match:
    """The example that fits best, 0 to 1, and the words that made it fit; a word that is only
    like another stands as "tikket≈ticket"."""

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


class KindMarker:
    """Puts what they are in place of dates, times, amounts and numbers: "‹time›"."""

    def __init__(self, language: Language) -> None:
        self._numbers, self._types = language.numbers, language.types
        self._starts = lru_cache(maxsize=20_000)(self._may_start)

    def _may_start(self, token: str) -> bool:
        """Whether a date, a time or an amount may begin with a word, or be at its second."""
        numbers = self._numbers
        return (
            token in self._types.OPENING
            or numbers.is_number_word(token)
            or numbers.ordinal_value([token]) is not None
        )

    def marked(self, tokens: Sequence[str]) -> list[str]:
        """Tokens with what they are."""
        if not any(map(self._starts, tokens)):
            return list(tokens)
        found = list(tokens)
        grammar = self._types.builtin_grammar()
        for kind in self._types.SPOTTED:
            reference = Reference("", f"builtin:{kind}")
            for start, end, _ in reversed(spot(grammar, reference, found, self._starts)):
                if end - start > 1 or found[start] in self._types.OPENING:
                    found[start:end] = [f"‹{kind}›"]
        return ["‹number›" if self._numbers.is_number_word(token) else token for token in found]


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
        self._wording, self._letters = language.wording, language.letters
        self._marked = KindMarker(language).marked
        self.routes = list(examples)
        self._texts: list[str] = []
        self._lines: list[str] = []
        self._known: dict[tuple[str, bool], dict[str, float]] = {}
        self._spelt: dict[str, str] = {}
        self._route: list[int] = []
        self._words: list[list[str]] = []
        for number, name in enumerate(self.routes):
            for text, tokens in examples[name]:
                if tokens:
                    self._texts.append(text)
                    self._lines.append(" ".join(tokens))
                    self._route.append(number)
                    self._words.append(self._wording.concepts(self._marked(tokens)))
                    self._spelt |= {token: self._wording.concept(token) for token in tokens}
        seen = Counter(word for words in self._words for word in set(words))
        total = len(self._words) + 1
        self._worth = {
            word: math.log(1.0 + total / count) * self._weight(word) for word, count in seen.items()
        }
        self._unseen = math.log(1.0 + total) * UNSEEN
        postings: dict[str, list[int]] = defaultdict(list)
        for number, words in enumerate(self._words):
            for word in set(words):
                postings[word].append(number)
        self._postings = {word: np.array(places) for word, places in postings.items()}
        self._totals = np.array(
            [sum(self._worth[word] for word in set(words)) for words in self._words] or [0.0]
        )
        counts = Counter(self._route)
        self._spans: list[tuple[int, int]] = []
        for number in range(len(self.routes)):
            start = self._spans[-1][1] if self._spans else 0
            self._spans.append((start, start + counts[number]))
        # Letters and sounds are compared with words as they stand in the examples.
        self._by_trigram: dict[str, set[str]] = defaultdict(set)
        self._by_first: dict[str, list[str]] = defaultdict(list)
        for word, meant in self._spelt.items():
            if meant not in self._worth or meant in self._wording.FILLERS:
                continue
            for part in trigrams(word):
                self._by_trigram[part].add(word)
            if len(word) > 3:
                self._by_first[_hard(word)].append(word)

    def __len__(self) -> int:
        return len(self._texts)

    def worth(self, word: str) -> float:
        """How telling a word is; one in no example nearly as telling as any can be."""
        if word in self._worth:
            return self._worth[word]
        return self._unseen * self._weight(word)

    def best(self, tokens: Sequence[str], *, without: int | None = None) -> list[Match]:
        """For every route, in their order, the example most like what was typed."""
        return self.compared(tokens, without=without)[0]

    def compared(
        self, tokens: Sequence[str], *, heard: bool = False, without: int | None = None
    ) -> tuple[list[Match], float]:
        """For every route, in their order, the example most like the utterance; and the share of
        what the utterance says, by worth, that no example has a word for.

        Args:
            tokens: spoken tokens.
            heard: they may have been misheard: then a word may stand for another that sounds like
                it. In what was typed, a word of the language stands for itself.
            without: an example's number that is left out, to judge that example itself.
        """
        nothing = [Match(0.0, "", ()) for _ in self.routes]
        if not self._texts or not tokens:
            return nothing, 1.0
        marked = self._marked(tokens)
        said = list(dict.fromkeys(self._wording.concepts(marked)))
        spelt = {self._wording.concept(token): token for token in marked}
        common = np.zeros(len(self._texts))
        took: dict[str, dict[str, float]] = {}
        for word in said:
            took[word] = near = self._near(word, spelt.get(word, word), heard)
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
        return self._refined(tokens, said, words, took, nothing), share

    def _refined(
        self,
        tokens: Sequence[str],
        said: list[str],
        words: npt.NDArray[np.float64],
        took: dict[str, dict[str, float]],
        found: list[Match],
    ) -> list[Match]:
        """Letters and order too, for the examples that may yet be a route's best."""
        most = min(REFINED, len(words))
        likely = np.argpartition(-words, most - 1)[:most].tolist()
        line = " ".join(tokens)
        pairs = set(itertools.pairwise(said))
        for route, number in enumerate(self._first_of_each(words)):
            if number >= 0 and words[number]:
                score = round((1.0 - LETTERS - ORDER) * float(words[number]), 4)
                found[route] = Match(score, self._texts[number], ())
        for number in likely:
            if not words[number]:
                continue
            example = self._words[number]
            letters = likeness(line, self._lines[number])
            theirs = set(itertools.pairwise(example))
            order = 2.0 * len(pairs & theirs) / max(1, len(pairs) + len(theirs))
            score = (1.0 - LETTERS - ORDER) * words[number] + LETTERS * letters + ORDER * order
            if line == self._lines[number]:
                score = max(score, 0.97)
            elif said == example:
                score = min(max(score, 0.93), 0.96)
            route = self._route[number]
            if score > found[route].score:
                shared = self._shared(said, set(example), took)
                found[route] = Match(round(min(1.0, float(score)), 4), self._texts[number], shared)
        return found

    def _first_of_each(self, words: npt.NDArray[np.float64]) -> list[int]:
        """The number of the best example of each route by words alone, −1 where it has none."""
        best = [-1] * len(self.routes)
        for route, (start, end) in enumerate(self._spans):
            if end > start:
                best[route] = start + int(words[start:end].argmax())
        return best

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
        if word in self._wording.FILLERS or word.startswith("‹") or len(word) < 3:
            return {}
        if self._wording.common(word) or (not heard and self._wording.known(word)):
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

    def _weight(self, word: str) -> float:
        if word in self._wording.FILLERS:
            return FILLER_WORTH
        if word in self._wording.ASKING:
            return ASKING_WORTH
        return KIND_WORTH if word.startswith("‹") else 1.0

    def _shared(
        self, said: Sequence[str], example: set[str], took: dict[str, dict[str, float]]
    ) -> tuple[str, ...]:
        found = []
        for word in said:
            for other, degree in took[word].items():
                if other in example and word not in self._wording.FILLERS:
                    found.append(word if degree == 1.0 else f"{word}≈{other}")
                    break
        return tuple(found)


def _hard(word: str) -> str:
    """The first sound of a word, roughly, by its first letter."""
    return {"c": "k", "q": "k", "z": "s", "v": "f", "j": "g"}.get(word[0], word[0])
