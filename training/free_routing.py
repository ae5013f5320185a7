"""Fits how likely a route, or none, is meant where an assistant answers freely beside its routes.

The rows are the developing half of bench/free_routing with 3, 6 and 12 examples a route, and every
example of these assistants left out in turn: once for its own route, once, with its route taken
away, for none; and the words that only one route's examples have, said alone. It prints the
constants of fond_echo/core/dialogue/evidence.py, and what they give on assistants that a fold was
not fitted on.

    python -m training.free_routing
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from random import Random

import numpy as np
import numpy.typing as npt
from scipy.optimize import minimize

from bench.free_routing import SIZES, Described, assistants
from fond_echo.core.dialogue.evidence import NAMES
from fond_echo.core.dialogue.examples import ExampleText
from fond_echo.core.dialogue.matching import ExampleMatcher

RIDGE, LEFT_OUT, KEYWORD, EXCHANGED = 0.01, 0.05, 0.5, 0.05
"""The penalty of large weights; what an example left out, a keyword
alone, and an example with a strange word count, beside a person's sentence."""

FOLDS = 5
WRONG = 0.03
"""So many of the sentences that belong to none may be taken by a route."""

Rows = npt.NDArray[np.float64]


def keywords(matcher: ExampleMatcher) -> Iterator[tuple[str, str]]:
    """The most telling words that stand in a route's examples and in no other's: people say just
    these, too."""
    wording = matcher.wording
    where: dict[str, Counter[str]] = defaultdict(Counter)
    for route, example in matcher.by_route():
        for word in set(example.tokens):
            if not {word, wording.concept(word)} & (wording.PASSING | wording.WEAK):
                where[wording.concept(word)][route] += 1
    own: dict[str, Counter[str]] = defaultdict(Counter)
    for word, routes in where.items():
        if len(routes) == 1 and not word.startswith("‹"):
            route, count = routes.most_common(1)[0]
            own[route][word] = count
    for route, words in own.items():
        yield from ((route, word) for word, count in words.most_common(2) if count > 1)


def telling(example: ExampleText, matcher: ExampleMatcher) -> list[str]:
    """An example's words that carry a meaning, the rarest first."""
    wording = matcher.wording
    words = [
        word
        for word in set(example.tokens)
        if not {word, wording.concept(word)} & (wording.PASSING | wording.WEAK)
    ]
    return sorted(words, key=lambda word: (-wording.rarity(word), word))


def exchanged(matcher: ExampleMatcher, strange: list[str]) -> Iterator[str]:
    """Every example with its most telling word exchanged for one of other assistants: what is
    asked in a known way about something else."""
    known = {word for _, example in matcher.by_route() for word in example.distinct}
    chance = Random(len(known))
    others = [word for word in strange if matcher.wording.concept(word) not in known]
    for _, example in matcher.by_route():
        words = telling(example, matcher)
        if len(words) > 1:
            yield " ".join(
                chance.choice(others) if word == words[0] else word for word in example.tokens
            )


@dataclass
class Case:
    """One sentence: the evidence for the routes found, which is right (−1: none), its weight."""

    assistant: str
    examples: int
    rows: Rows
    right: int
    belongs: bool
    weight: float


def cases(described: Described, examples: int, strange: list[str]) -> list[Case]:
    """An assistant's sentences, its keywords, and its examples: left out in turn, and with a
    strange word in each."""
    router = described.router(examples)
    matcher, evidence = router.matcher, router.evidence
    assert evidence is not None
    found = []

    def case(text: str, route: str, weight: float, **kinds: int | str) -> None:
        without, dropped = kinds.get("without"), kinds.get("dropped")
        tokens = router.said(text)
        number = without if isinstance(without, int) else None
        matches, unknown = matcher.compared(tokens, without=number)
        matches = [each for each in matches if each.route != dropped]
        if not matches:
            return
        rows = evidence.features(tokens, matches, unknown, without=number)
        names = [each.route for each in matches]
        right = names.index(route) if route in names else -1
        found.append(Case(described.name, examples, rows, right, bool(route), weight))

    for route, text in described.sentences:
        case(text, route, 1.0)
    for route, word in keywords(matcher):
        case(word, route, KEYWORD)
    for text in exchanged(matcher, strange):
        case(text, "", EXCHANGED)
    for number, (route, _) in enumerate(matcher.by_route()):
        text = matcher.texts[number]
        case(text, route, LEFT_OUT, without=number)
        case(text, "", LEFT_OUT, dropped=route)
    return found


def fitted(known: list[Case]) -> tuple[npt.NDArray[np.float64], float]:
    """Weights of the evidence as it stands, and the bias against none."""
    every = np.vstack([each.rows for each in known])
    middle, spread = every.mean(axis=0), every.std(axis=0) + 1e-6
    most, size = max(len(each.rows) for each in known), len(NAMES)
    values = np.zeros((len(known), most, size))
    absent = np.full((len(known), most + 1), -1e9)
    absent[:, most] = 0.0
    right = np.full(len(known), most)
    weights = np.array([each.weight for each in known])
    for number, each in enumerate(known):
        values[number, : len(each.rows)] = (each.rows - middle) / spread
        absent[number, : len(each.rows)] = 0.0
        if each.right >= 0:
            right[number] = each.right
    lines = np.arange(len(known))

    def loss(point: npt.NDArray[np.float64]) -> tuple[float, npt.NDArray[np.float64]]:
        evidence = values @ point[:-1] + point[-1]
        evidence = np.concatenate([evidence, np.zeros((len(known), 1))], axis=1) + absent
        evidence -= evidence.max(axis=1, keepdims=True)
        shares = np.exp(evidence)
        shares /= shares.sum(axis=1, keepdims=True)
        total = weights.sum()
        value = -(weights * np.log(shares[lines, right] + 1e-12)).sum() / total
        slope = shares.copy()
        slope[lines, right] -= 1.0
        slope *= weights[:, None] / total
        by_weight = np.einsum("nk,nkf->f", slope[:, :most], values) + 2 * RIDGE * point[:-1]
        penalty = RIDGE * float(point[:-1] @ point[:-1])
        return float(value) + penalty, np.append(by_weight, slope[:, :most].sum())

    point = minimize(loss, np.zeros(size + 1), jac=True, method="L-BFGS-B").x
    plain = point[:-1] / spread
    return plain, float(point[-1] - plain @ middle)


def best(case: Case, weights: npt.NDArray[np.float64], bias: float) -> tuple[float, bool]:
    """How likely the likeliest route is, and whether it is right."""
    evidence = np.append(case.rows @ weights + bias, 0.0)
    shares = np.exp(evidence - evidence.max())
    shares /= shares.sum()
    place = int(shares[:-1].argmax())
    return float(shares[place]), place == case.right


def main() -> None:
    every = assistants("develop")
    words = {
        each.name: [
            telling(example, matcher)[0]
            for matcher in (each.router(12).matcher,)
            for _, example in matcher.by_route()
            if telling(example, matcher)
        ]
        for each in every
    }
    known = [
        case
        for each in every
        for examples in SIZES
        for case in cases(
            each, examples, [w for name in words if name != each.name for w in words[name]]
        )
    ]
    names = sorted({each.assistant for each in known})
    judged: list[tuple[Case, float, bool]] = []
    for fold in range(FOLDS):
        apart = set(names[fold::FOLDS])
        weights, bias = fitted([each for each in known if each.assistant not in apart])
        judged += [
            (each, *best(each, weights, bias))
            for each in known
            if each.assistant in apart and each.weight == 1.0
        ]
    none = sorted((share for each, share, _ in judged if not each.belongs), reverse=True)
    sure = none[int(WRONG * len(none))]
    for examples in SIZES:
        of_size = [each for each in judged if each[0].examples == examples]
        belongs = [each for each in of_size if each[0].belongs]
        stray = [each for each in of_size if not each[0].belongs]
        taken = sum(share > sure for _, share, _ in stray) / len(stray)
        right = sum(share > sure and good for _, share, good in belongs) / len(belongs)
        wrong = sum(share > sure and not good for _, share, good in belongs) / len(belongs)
        print(f"{examples} examples: {right:.1%} right, {wrong:.1%} wrong; of none {taken:.1%}")
    weights, bias = fitted(known)
    print("WEIGHTS: Mapping[str, float] = {")
    for name, weight in zip(NAMES, weights, strict=True):
        print(f'    "{name}": {weight:.3f},')
    print(f"}}\nBIAS = {bias:.3f}\n\nFREE_THRESHOLD = {sure:.2f}")


if __name__ == "__main__":
    main()
