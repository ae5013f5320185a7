"""Other wordings of a route's examples: proposed, and held against the other routes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import zip_longest

from fond_echo.core.dialogue.routing import EXACT, Router
from fond_echo.core.language.language import Language

MAX_LENGTH = 200
"""Characters of a proposal."""

CLOSE = 0.5
"""A proposal that is more likely than this another route's is not proposed."""


@dataclass(frozen=True)
class Proposal:
    """A wording that may be added to a route's examples; `near` is another route that would take
    it, and then it is not good."""

    route: str
    example: str
    near: str = ""


def proposals(route: str, wordings: Iterable[str], router: Router, most: int) -> list[Proposal]:
    """Wordings that are new and no other route's, at most so many; those that another route would
    take stand at the end, and say which.

    Args:
        wordings: in the order in which they are proposed.
    """
    known = {tuple(router.said(each)) for each in router.examples}
    good: list[Proposal] = []
    taken: list[Proposal] = []
    for wording in wordings:
        text = " ".join(wording.split())[:MAX_LENGTH]
        said = tuple(router.said(text))
        if not said or said in known:
            continue
        known.add(said)
        others = [each for each in router.scores(said) if each.route != route]
        other = max(others, key=lambda each: each.confidence, default=None)
        own = next((each.confidence for each in router.scores(said) if each.route == route), 0.0)
        if other is not None and (other.confidence > max(own, CLOSE) or other.score >= EXACT):
            taken.append(Proposal(route, text, other.route))
        elif len(good) < most:
            good.append(Proposal(route, text))
    return [*good, *taken[: max(0, most - len(good))]]


def by_frames(examples: Mapping[str, Sequence[str]], router: Router, most: int) -> list[Proposal]:
    """What everyday frames propose for some routes, at most so many for each.

    Args:
        examples: by route.
    """
    return [
        proposal
        for route, texts in examples.items()
        for proposal in proposals(route, framed(texts, router.language), router, most)
    ]


def framed(examples: Sequence[str], language: Language) -> list[str]:
    """Other wordings of examples by everyday frames: in turn, one of each example, so that not all
    are of the first."""
    each = [list(language.wording.other_wordings(example)) for example in examples]
    return [wording for turn in zip_longest(*each) for wording in turn if wording is not None]


def listed(text: str) -> Sequence[str]:
    """The wordings in a text that has one on each line, with or without numbers, dashes and
    quotes.

    >>> list(listed("1. What is it?\\n- “How much?”"))
    ['What is it?', 'How much?']
    """
    found = []
    for line in text.splitlines():
        plain = line.strip().lstrip("-*•0123456789.) ").strip("\"'“”„«» ")
        if plain and len(plain) <= MAX_LENGTH:
            found.append(plain)
    return found
