"""How likely each route is what was meant, and how likely none of them: for assistants that have a
free answer beside their routes.

A logistic model over the routes and "none" (McFadden's conditional logit). Its evidence is what the
words share with a route's examples, and what is left over: words that carry a meaning and stand in
no example, a thing named after "a" or "any" that no example knows, a kind of question (who, why,
how much) that no example asks. Weights and threshold are fitted by training/free_routing.py on the
developing half of bench/free_routing.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from fond_echo.core.dialogue.matching import ExampleMatcher, Match
from fond_echo.core.language.language import Language

WEIGHTS: Mapping[str, float] = {
    "score": -2.544,
    "lead": 4.784,
    "unknown": 0.166,
    "covered": 1.982,
    "lead of what is covered": 0.690,
    "explained": 0.491,
    "unexplained": 0.706,
    "most unexplained word": -0.837,
    "strange word": -1.290,
    "new thing": -0.257,
    "missing of the example": -0.247,
    "asked in the same way": 1.248,
    "way of asking unknown": 0.028,
    "a fact in no example": -1.431,
    "nothing said": 0.772,
    "route named": 1.383,
    "length": 2.265,
}
BIAS = -3.596

FREE_THRESHOLD = 0.49
"""A route of an assistant with a free answer is at least this likely to be taken."""

WEAK_WORTH = 0.15
"""What a word that says little alone carries, beside one that is as rare as any."""

LITTLE = 0.2
"""Words that carry less than this together carry nothing."""

TELLING, UNLIKELY = 0.35, -1.5
"""A word that no example knows is a thing of its own from here on; and the evidence that a route
has at most that shares nothing but the way of asking with what was said."""

LONG = 7
"""So many words are enough to tell by."""


@dataclass(frozen=True)
class _Said:
    """What was said, as it is compared: what each word stands for, what it carries (0 to 1), the
    words of the examples that it may be, and whether it stands where a thing is named."""

    meant: Sequence[str]
    carries: npt.NDArray[np.float64]
    near: Sequence[Mapping[str, float]]
    named: npt.NDArray[np.bool_]


class Evidence:
    """The evidence for the routes of an assistant.

    Args:
        matcher: of the routes' examples.
        language: of the routes.
    """

    def __init__(self, matcher: ExampleMatcher, language: Language) -> None:
        self._matcher, self._wording = matcher, language.wording
        self._words: dict[str, Counter[str]] = {route: Counter() for route in matcher.routes}
        self._kinds: dict[str, Counter[str]] = {route: Counter() for route in matcher.routes}
        for route, example in matcher.by_route():
            self._words[route].update(example.distinct)
            self._kinds[route][self._wording.kind_of_question(example.tokens)] += 1
        self._every_kind = sum(self._kinds.values(), Counter())

    def likelihoods(
        self, tokens: Sequence[str], found: Sequence[Match], unknown: float, *, heard: bool = False
    ) -> list[float]:
        """How likely each of the routes found is the one that was meant; what is missing from 1 is
        how likely none of them is."""
        if not found:
            return []
        values = self.features(tokens, found, unknown, heard=heard)
        weights = np.array([WEIGHTS[name] for name in NAMES])
        evidence = values @ weights + BIAS
        # "How do I find a good doctor" is no "how do I find the mill": where nothing that carries a
        # meaning is shared, and something is named that no example knows, the way of asking is not
        # enough.
        only_the_way = (values[:, EXPLAINED] <= LITTLE) & (values[:, STRANGE] >= TELLING)
        evidence = np.where(only_the_way, np.minimum(evidence, UNLIKELY), evidence)
        odds = np.exp(np.append(evidence, 0.0) - max(0.0, float(evidence.max())))
        shares: list[float] = (odds[:-1] / odds.sum()).tolist()
        return shares

    def features(
        self, tokens: Sequence[str], found: Sequence[Match], unknown: float,
        *, heard: bool = False, without: int | None = None,
    ) -> npt.NDArray[np.float64]:  # fmt: skip
        """The evidence as numbers, a row for each route found and a column for each of `NAMES`.

        Args:
            tokens: spoken tokens.
            found: what `ExampleMatcher.compared` found.
            unknown: the share of what was said that no example has a word for.
            heard: the tokens may have been misheard.
            without: an example's number that is left out.
        """
        said = self._said(tokens, heard)
        left_out = self._matcher.example(without) if without is not None else None
        degrees = np.zeros((len(found), len(said.meant)))
        kind = self._wording.kind_of_question(tokens)
        same_kind = np.zeros(len(found))
        for place, match in enumerate(found):
            words, kinds = self._words[match.route], self._kinds[match.route][kind]
            if left_out is not None and left_out[0] == match.route:
                words = words - Counter(left_out[1].distinct)
                kinds -= 1
            same_kind[place] = kinds > 0
            for number, near in enumerate(said.near):
                degrees[place, number] = max(
                    (degree for word, degree in near.items() if words[word] > 0), default=0.0
                )
        total = float(said.carries.sum())
        covered = degrees @ said.carries
        left = (1.0 - degrees) * said.carries
        known = degrees.max(axis=0)
        strange = float(((1.0 - known) * said.carries).max(initial=0.0))
        kind_known = self._every_kind[kind] - (left_out is not None) > 0
        scores = np.array([match.score for match in found])
        rows = len(found)
        missing = [self._missing(match, said) for match in found]
        named = [
            any(
                said.carries[number] and word in match.route.split("-")
                for number, word in enumerate(said.meant)
            )
            for match in found
        ]
        columns = {
            "score": scores,
            "lead": _lead(scores),
            "unknown": np.full(rows, unknown),
            "covered": covered / max(total, LITTLE),
            "lead of what is covered": _lead(covered),
            "explained": covered,
            "unexplained": left.sum(axis=1),
            "most unexplained word": left.max(axis=1, initial=0.0),
            "strange word": np.full(rows, strange),
            "new thing": (left * said.named).max(axis=1, initial=0.0),
            "missing of the example": np.array(missing),
            "asked in the same way": same_kind,
            "way of asking unknown": np.full(rows, float(not kind_known)),
            "a fact in no example": np.full(
                rows, float(not kind_known and kind in self._wording.FACTS)
            ),
            "nothing said": np.full(rows, float(total < LITTLE)),
            "route named": np.array(named, float),
            "length": np.full(rows, min(len(said.meant), LONG) / LONG),
        }
        return np.column_stack([columns[name] for name in NAMES])

    def _said(self, tokens: Sequence[str], heard: bool) -> _Said:
        meant, spelt, near = self._matcher.read(tokens, heard=heard)
        carries = [self._carries(each, spelt.get(each, each)) for each in meant]
        after = self._wording.DETERMINERS
        named = {second for first, second in pairwise(tokens) if first in after}
        named |= {last for (first, _), (_, last) in pairwise(pairwise(tokens)) if first in after}
        is_named = [each in named or spelt.get(each, each) in named for each in meant]
        return _Said(meant, np.array(carries), near, np.array(is_named, dtype=bool))

    def _carries(self, meant: str, word: str) -> float:
        """How much of the meaning a word carries, 0 to 1."""
        wording = self._wording
        if meant in wording.WEAK or word in wording.WEAK or meant.startswith("‹"):
            return WEAK_WORTH
        if meant in wording.PASSING or word in wording.PASSING:
            return 0.0
        return wording.rarity(word)

    def _missing(self, match: Match, said: _Said) -> float:
        """What the best example says that was not said."""
        mentioned = {word for near in said.near for word in near}
        example = self._matcher.text(match.example)
        return sum(self._carries(w, w) for w in example.distinct if w not in mentioned)


NAMES = (
    "score", "lead", "unknown", "covered", "lead of what is covered", "explained", "unexplained",
    "most unexplained word", "strange word", "new thing", "missing of the example",
    "asked in the same way", "way of asking unknown", "a fact in no example", "nothing said",
    "route named", "length",
)  # fmt: skip
"""The evidence, in its order."""

EXPLAINED, STRANGE = NAMES.index("explained"), NAMES.index("strange word")


def _lead(values: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """How far each value is before the best of the others."""
    if len(values) < 2:
        return values
    second, first = np.partition(values, -2)[-2:]
    others = np.where(np.arange(len(values)) == int(values.argmax()), second, first)
    return np.asarray(values - others)
