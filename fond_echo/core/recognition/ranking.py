"""Recognizers beside one another on the same recordings, with how sure the difference is."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from fond_echo.core.recognition.scoring import Edits

SAMPLES, SEED = 2_000, 20_261_128


@dataclass(frozen=True)
class Heard:
    """One recording by one recognizer.

    Attributes:
        edits: of its words; None where it failed.
        seconds: until the answer was there.
        cost: of the question.
        why: it failed.
    """

    file: str
    edits: Edits | None
    words: int
    seconds: float
    cost: float = 0.0
    why: str = ""


@dataclass(frozen=True)
class Standing:
    """How a recognizer did.

    Attributes:
        rate: of words wrong; a recording that failed counts as none of its words right.
        low, high: its interval of 95 %, by bootstrap over recordings (Bisani and Ney 2004).
        kinds: errors by kind: other, missing, extra.
        wait, long_wait: the median and the 95th percentile, in seconds.
        worst: recordings with the most errors.
    """

    name: str
    files: int
    failed: int
    rate: float
    low: float
    high: float
    kinds: dict[str, int] = field(default_factory=dict)
    wait: float = 0.0
    long_wait: float = 0.0
    cost: float = 0.0
    worst: tuple[str, ...] = ()


def _errors(one: Heard) -> int:
    return one.edits.errors if one.edits is not None else one.words


def standing(name: str, heard: Sequence[Heard]) -> Standing:
    """The standing of one recognizer.

    Raises:
        ValueError: there are no recordings, or no words in them.
    """
    words = np.array([one.words for one in heard], float)
    errors = np.array([_errors(one) for one in heard], float)
    if not words.sum():
        raise ValueError("there are no words to be heard")
    rng = np.random.default_rng(SEED)
    places = rng.integers(0, len(heard), (SAMPLES, len(heard)))
    rates = errors[places].sum(axis=1) / np.maximum(1, words[places].sum(axis=1))
    low, high = np.percentile(rates, [2.5, 97.5])
    kinds: Counter[str] = Counter(
        step.step for one in heard if one.edits for step in one.edits.steps if step.step != "same"
    )
    kinds["missing"] += sum(one.words for one in heard if one.edits is None)
    waits = [one.seconds for one in heard]
    ranked = sorted(heard, key=lambda one: -_errors(one) / max(1, one.words))
    return Standing(
        name, len(heard), sum(one.edits is None for one in heard),
        float(errors.sum() / words.sum()), float(low), float(high), dict(kinds),
        float(np.percentile(waits, 50)), float(np.percentile(waits, 95)),
        sum(one.cost for one in heard), tuple(one.file for one in ranked[:3] if _errors(one)),
    )  # fmt: skip


def ranked(standings: Sequence[Standing]) -> list[Standing]:
    """The one with the fewest errors first."""
    return sorted(standings, key=lambda each: each.rate)


@dataclass(frozen=True)
class Difference:
    """Two recognizers on the same recordings.

    Attributes:
        files: that both were given.
        by: how many more of the words the first has wrong than the second.
        low, high: its interval of 95 %, by bootstrap over recordings, both on the same ones.
        better, worse: recordings on which the first has fewer, or more, errors.
    """

    files: int
    by: float
    low: float
    high: float
    better: tuple[str, ...]
    worse: tuple[str, ...]

    @property
    def certain(self) -> bool:
        """Whether one of them is better, and not by chance."""
        return self.low > 0 or self.high < 0


def difference(first: Sequence[Heard], second: Sequence[Heard]) -> Difference:
    """How the first did beside the second.

    Raises:
        ValueError: there are no words in what both heard.
    """
    others = {one.file: one for one in second}
    both = [(one, others[one.file]) for one in first if one.file in others]
    words = np.array([one.words for one, _ in both], float)
    more = np.array([_errors(one) - _errors(other) for one, other in both], float)
    if not words.sum():
        raise ValueError("there are no words that both were given")
    rng = np.random.default_rng(SEED)
    places = rng.integers(0, len(both), (SAMPLES, len(both)))
    by = more[places].sum(axis=1) / np.maximum(1, words[places].sum(axis=1))
    low, high = np.percentile(by, [2.5, 97.5])
    return Difference(
        len(both), float(more.sum() / words.sum()), float(low), float(high),
        tuple(one.file for (one, _), each in zip(both, more, strict=True) if each < 0),
        tuple(one.file for (one, _), each in zip(both, more, strict=True) if each > 0),
    )  # fmt: skip
