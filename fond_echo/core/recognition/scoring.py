"""How right a transcript is: words and characters aligned with what was said, and how far to trust
a share that was counted."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

Step = Literal["same", "other", "missing", "extra"]


@dataclass(frozen=True)
class Aligned:
    """One place of an alignment; `said` or `heard` is "" where there is nothing on that side."""

    step: Step
    said: str
    heard: str


@dataclass(frozen=True)
class Edits:
    """What must be changed in what was heard to get what was said.

    Attributes:
        steps: the alignment, in order.
        length: how much was said.
    """

    steps: tuple[Aligned, ...]
    length: int

    @property
    def errors(self) -> int:
        return sum(each.step != "same" for each in self.steps)

    @property
    def rate(self) -> float:
        """Errors by what was said: above 1 where far more was heard; 0 where nothing was either."""
        return self.errors / self.length if self.length else float(self.errors > 0)


def edits(said: Sequence[str], heard: Sequence[str]) -> Edits:
    """The shortest alignment (Levenshtein 1966) of words, or of the characters of two strings."""
    rows, columns = len(said) + 1, len(heard) + 1
    costs = [[0] * columns for _ in range(rows)]
    for i in range(rows):
        for j in range(columns):
            if i == 0 or j == 0:
                costs[i][j] = i + j
                continue
            costs[i][j] = min(
                costs[i - 1][j] + 1,
                costs[i][j - 1] + 1,
                costs[i - 1][j - 1] + (said[i - 1] != heard[j - 1]),
            )
    steps: list[Aligned] = []
    i, j = len(said), len(heard)
    while i or j:
        both = i and j
        if both and costs[i][j] == costs[i - 1][j - 1] + (said[i - 1] != heard[j - 1]):
            same = said[i - 1] == heard[j - 1]
            steps.append(Aligned("same" if same else "other", said[i - 1], heard[j - 1]))
            i, j = i - 1, j - 1
        elif i and costs[i][j] == costs[i - 1][j] + 1:
            steps.append(Aligned("missing", said[i - 1], ""))
            i -= 1
        else:
            steps.append(Aligned("extra", "", heard[j - 1]))
            j -= 1
    return Edits(tuple(reversed(steps)), len(said))


@dataclass(frozen=True)
class Interval:
    """A share with its 95 % interval."""

    share: float
    low: float
    high: float

    def __str__(self) -> str:
        return f"{self.share:.1%} ({self.low:.1%} to {self.high:.1%})"


def wilson(count: int, total: int) -> Interval:
    """The interval of Wilson (1927) for a share that was counted."""
    if not total:
        return Interval(0.0, 0.0, 1.0)
    z = 1.96
    share = count / total
    middle = (share + z * z / (2 * total)) / (1 + z * z / total)
    half = (
        z
        / (1 + z * z / total)
        * math.sqrt(share * (1 - share) / total + z * z / (4 * total * total))
    )
    return Interval(share, max(0.0, middle - half), min(1.0, middle + half))


@dataclass(frozen=True)
class Bin:
    """Of everything given a confidence in a range: how many, what was said of it, what was true."""

    count: int
    reported: float
    true: float


def reliability(confidences: Sequence[float], right: Sequence[bool], bins: int = 10) -> list[Bin]:
    """Confidences beside how often they were right, by tenths; empty tenths are left out."""
    found = []
    for place in range(bins):
        here = [k for k, each in enumerate(confidences) if min(bins - 1, int(each * bins)) == place]
        if here:
            reported = sum(confidences[k] for k in here) / len(here)
            found.append(Bin(len(here), reported, sum(right[k] for k in here) / len(here)))
    return found


def calibration_error(found: Sequence[Bin]) -> float:
    """The mean distance between what was told and what was true, weighted by how many."""
    total = sum(each.count for each in found)
    return sum(each.count * abs(each.reported - each.true) for each in found) / max(1, total)
