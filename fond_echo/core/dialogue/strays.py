"""Examples that are nearer to another route than to their own: each is judged without itself, as
`matching` compares, in compiled code over all of them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise
from typing import Any, TypeVar

import numpy as np
import numpy.typing as npt
from numba import njit

from fond_echo.core.dialogue.examples import ExampleText
from fond_echo.core.dialogue.matching import (
    LETTERS,
    ORDER,
    REFINED,
    SAID,
    SAME,
    SAME_MEANT,
    trigrams,
    worths,
)
from fond_echo.core.language.language import Wording

LEAST, AHEAD = 0.4, 0.05
"""Another route wins an example where its score is above LEAST and so much better than that of its
own route."""

Numbers = npt.NDArray[Any]
Of = TypeVar("Of")


@dataclass(frozen=True)
class Stray:
    """An example that another route wins.

    Attributes:
        place: in the examples.
        nearest: the place of the other route's example that is most like it.
        score, own: of the other route, and of its own.
    """

    place: int
    nearest: int
    score: float
    own: float


def strays(examples: Sequence[ExampleText], routes: Sequence[int], wording: Wording) -> list[Stray]:
    """Judge every example without itself.

    Another route is looked for among the examples that share the most words with it.

    Args:
        examples: all of them, those of a route one after another.
        routes: the number of the route of each.
    """
    if not examples:
        return []
    numbers: dict[str, int] = {}
    words = _lists([numbers.setdefault(word, len(numbers)) for word in each.distinct]
                   for each in examples)  # fmt: skip
    seen = np.bincount(words[0], minlength=len(numbers))
    worth_of = worths(dict(zip(numbers, seen.tolist(), strict=True)), len(examples), wording)
    holders = np.repeat(np.arange(len(examples)), np.diff(words[1]))
    postings = holders[np.argsort(words[0], kind="stable")], np.cumsum([0, *seen])
    said = [_neighbours(each.distinct) for each in examples]
    meant = [_neighbours(each.meant) for each in examples]
    own, best, nearest = _judged(
        words, postings, np.array([worth_of[word] for word in numbers]),
        np.array(routes, np.int64), _lists(_parts(each.line) for each in examples),
        _lists(said), _lists(meant),
        (_numbered(each.line for each in examples), *_meanings(examples)),
    )  # fmt: skip
    wins = (nearest >= 0) & (best > np.maximum(LEAST, own + AHEAD))
    return [
        Stray(place, int(nearest[place]), float(best[place]), float(own[place]))
        for place in np.flatnonzero(wins).tolist()
    ]


def _meanings(examples: Sequence[ExampleText]) -> tuple[Numbers, Numbers]:
    """Of each example, the number of what it means word by word, and of its different words."""
    both = _numbered([each.meant for each in examples] + [each.distinct for each in examples])
    return both[: len(examples)], both[len(examples) :]


def _numbered(values: Iterable[object]) -> Numbers:
    """The same number for the same value."""
    known: dict[object, int] = {}
    return np.array([known.setdefault(each, len(known)) for each in values])


def _lists(lists: Iterable[Numbers | Sequence[int]]) -> tuple[Numbers, Numbers]:
    """Lists of numbers one after another, and where each begins."""
    made = [np.asarray(each, np.int64) for each in lists]
    return np.concatenate(made), np.cumsum([0, *map(len, made)])


def _numbering() -> Callable[[object], int]:
    known: dict[object, int] = {}
    return lambda each: known.setdefault(each, len(known))


_pair_number, _part_number = _numbering(), _numbering()
"""Of neighbouring words, and of three letters in a row: there are not many in a language."""


@lru_cache(maxsize=50_000)
def _neighbours(words: tuple[str, ...]) -> Numbers:
    return np.array(sorted({_pair_number(each) for each in pairwise(words)}), np.int64)


@lru_cache(maxsize=50_000)
def _parts(line: str) -> Numbers:
    return np.array(sorted(map(_part_number, trigrams(line))), np.int64)


@njit(cache=True)
def _common(flat, a, a_end, other, b, b_end):  # type: ignore[no-untyped-def]  # compiled
    """How many numbers two sorted stretches share."""
    count = 0
    while a < a_end and b < b_end:
        if flat[a] == other[b]:
            count += 1
            a += 1
            b += 1
        elif flat[a] < other[b]:
            a += 1
        else:
            b += 1
    return count


@njit(cache=True)
def _shared_worth(words, postings, worth, i, common):  # type: ignore[no-untyped-def]  # compiled
    """By example, the worth of the words that it shares with example i, but for itself."""
    word, word_first = words
    holder, holder_first = postings
    common[:] = 0.0
    for k in range(word_first[i], word_first[i + 1]):
        w = word[k]
        for p in range(holder_first[w], holder_first[w + 1]):
            common[holder[p]] += worth[w]
    common[i] = 0.0


@njit(cache=True)
def _rounded(value):  # type: ignore[no-untyped-def]  # compiled
    return np.floor(value * 1e4 + 0.5) / 1e4


@njit(cache=True)
def _likeliest(common, mine, worths, top, at):  # type: ignore[no-untyped-def]  # compiled
    """The examples that share the most with one, by words alone: fills `top` with their scores and
    `at` with their places, in no order; gives how many there are."""
    size, low, least = 0, 0, 0.0
    for j in range(len(common)):
        # Most are passed over here, with one product.
        if common[j] <= least * (mine + (1.0 - SAID) * worths[j]):
            continue
        value = common[j] / max(mine + (1.0 - SAID) * worths[j], 1e-9)
        if size < REFINED:
            top[size], at[size] = value, j
            size += 1
        else:
            top[low], at[low] = value, j
        if size == REFINED:
            low = int(np.argmin(top))
            least = top[low]
    return size


@njit(cache=True)
def _judged(  # type: ignore[no-untyped-def]  # compiled
    words, postings, worth, route, letters, said, meant, kinds
):
    """For each example without itself: the score of its own route, the best of the other routes,
    and the example that gave that, −1 for none."""
    line, sequence, distinct = kinds
    total = len(route)
    share = 1.0 - LETTERS - ORDER
    own, best = np.zeros(total), np.zeros(total)
    nearest = np.full(total, -1)
    worths = np.zeros(total)
    for i in range(total):
        for k in range(words[1][i], words[1][i + 1]):
            worths[i] += worth[words[0][k]]
    common = np.zeros(total)
    top, at = np.zeros(REFINED), np.zeros(REFINED, np.int64)
    for i in range(total):
        _shared_worth(words, postings, worth, i, common)
        said_worth = SAID * worths[i]
        size = _likeliest(common, said_worth, worths, top, at)
        mine, other, which = 0.0, 0.0, -1
        j = i
        while j > 0 and route[j - 1] == route[i]:
            j -= 1
        while j < total and route[j] == route[i]:
            value = common[j] / max(said_worth + (1.0 - SAID) * worths[j], 1e-9)
            mine = max(mine, _rounded(share * value))
            j += 1
        for q in range(size):
            j = at[q]
            first, last = letters[1][i], letters[1][i + 1]
            begin, end = letters[1][j], letters[1][j + 1]
            same = _common(letters[0], first, last, letters[0], begin, end)
            value = share * top[q] + LETTERS * 2.0 * same / (last - first + end - begin)
            first, last = said[1][i], said[1][i + 1]
            begin, end = meant[1][j], meant[1][j + 1]
            same = _common(said[0], first, last, meant[0], begin, end)
            value += ORDER * 2.0 * same / max(1, last - first + end - begin)
            if line[i] == line[j]:
                value = max(value, SAME)
            elif distinct[i] == sequence[j]:
                value = min(max(value, SAME_MEANT), SAME - 0.01)
            value = _rounded(min(1.0, value))
            if route[j] == route[i]:
                mine = max(mine, value)
            elif value > other:
                other, which = value, j
        own[i], best[i], nearest[i] = mine, other, which
    return own, best, nearest
