"""Which of many phrases sound alike: every pair is judged, though few are compared.

The distance is that of `sounding`. Two phrases are compared only where counts of their sounds, and
of neighbouring sounds, leave it open whether they are near: sounds between which a step is cheap
count as one there. An edit changes one sound and two pairs of neighbours at most, so that nothing
near is passed over (Ukkonen 1992, on q-grams). The distance itself is found within a band around
the diagonal, and given up where it exceeds the limit (Ukkonen 1985).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from fond_echo.core.language.language import Letters
from fond_echo.core.language.phonemes import PHONEMES
from fond_echo.core.language.sounding import sounds, step_cost

MAX_SOUNDS = 510
"""Phrases with more are not compared: no example is so long."""

RUN_WORDS = 4
"""So many words of 64 bits stand for the runs of sounds in a phrase."""

_FAR = 1e9
Numbers = npt.NDArray[Any]


@dataclass(frozen=True, eq=False)
class _Sounds:
    """Sounds by number: what a step between two costs, and of each the class of those between which
    a step costs less than one."""

    numbers: dict[str, int]
    costs: Numbers
    coarse: Numbers


@lru_cache(maxsize=16)
def _inventory(names: tuple[str, ...]) -> _Sounds:
    costs = np.array([[step_cost(a, b) for b in names] for a in names])
    coarse = list(range(len(names)))
    for a, b in zip(*np.nonzero(costs < 1.0), strict=True):
        if coarse[a] != coarse[b]:
            coarse = [coarse[b] if each == coarse[a] else each for each in coarse]
    classes = np.unique(coarse, return_inverse=True)[1].astype(np.int64)
    return _Sounds({name: number for number, name in enumerate(names)}, costs, classes)


@lru_cache(maxsize=50_000)
def _sounds_of(phrase: str, letters: Letters) -> tuple[str, ...]:
    return tuple(each for word in phrase.split() for each in sounds(word, letters))


class AlikeFinder:
    """Finds pairs of phrases of different groups that sound alike, and keeps them: when phrases
    change, only what is new is compared.

    Args:
        letters: of their language.
        least: how alike a pair is at least, 0 to 1, as `sound_likeness` says it.
        most: so many pairs are found at most; the rest is counted.
    """

    def __init__(self, letters: Letters, least: float, most: int) -> None:
        self._letters, self._share, self._most = letters, 1.0 - least, most
        self._known: frozenset[tuple[str, str]] = frozenset()
        self._pairs: list[tuple[tuple[str, str], tuple[str, str]]] = []

    def pairs(
        self, phrases: Sequence[str], groups: Sequence[str]
    ) -> tuple[list[tuple[int, int]], int]:
        """Pairs of places in `phrases`, the earlier first, in order, and how many there are in all.

        Args:
            phrases: spoken words.
            groups: of each; phrases of one group are not compared, and a phrase that comes twice in
                a group counts once.
        """
        place: dict[tuple[str, str], int] = {}
        for number, each in enumerate(zip(groups, phrases, strict=True)):
            place.setdefault(each, number)
        marks = list(place)
        fresh = np.array([each not in self._known for each in marks], np.bool_)
        found = {(a, b) for a, b in self._pairs if a in place and b in place}
        total = len(found)
        if fresh.any():
            made, count = self._compared(marks, fresh)
            found.update((marks[a], marks[b]) for a, b in made)
            total += count
        # Where there are more than are kept, all are looked for again next time.
        kept = total == len(found)
        self._known = frozenset(marks) if kept else frozenset()
        self._pairs = list(found) if kept else []
        return sorted((min(place[a], place[b]), max(place[a], place[b])) for a, b in found), total

    def _compared(
        self, marks: Sequence[tuple[str, str]], fresh: Numbers
    ) -> tuple[list[tuple[int, int]], int]:
        spelt = [_sounds_of(each, self._letters)[: MAX_SOUNDS + 1] for _, each in marks]
        known = _inventory((*PHONEMES, *sorted({s for each in spelt for s in each} - {*PHONEMES})))
        said = [np.array([known.numbers[s] for s in each], np.uint8) for each in spelt]
        first = np.cumsum([0, *map(len, said)])
        flat = np.concatenate(said)
        numbers: dict[str, int] = {}
        group = np.array([numbers.setdefault(each, len(numbers)) for each, _ in marks])
        counts = np.zeros((len(said), int(known.coarse.max()) + 1), np.uint8)
        bits = np.zeros((len(said), 2 * RUN_WORDS), np.uint64)
        _fill(flat, first, known.coarse, counts, bits)
        order = np.argsort(np.diff(first), kind="stable")
        found, count = _pairs_within(
            flat, first, counts, bits, group, order, fresh, known.costs, self._share, self._most
        )
        return [(int(a), int(b)) for a, b in found], int(count)


@njit(cache=True)
def _ones(x):  # type: ignore[no-untyped-def]  # compiled
    """How many bits of 64 are set."""
    x = x - ((x >> np.uint64(1)) & np.uint64(0x5555555555555555))
    x = (x & np.uint64(0x3333333333333333)) + ((x >> np.uint64(2)) & np.uint64(0x3333333333333333))
    x = (x + (x >> np.uint64(4))) & np.uint64(0x0F0F0F0F0F0F0F0F)
    return np.int64((x * np.uint64(0x0101010101010101)) >> np.uint64(56))


@njit(cache=True)
def _fill(flat, first, coarse, counts, bits):  # type: ignore[no-untyped-def]  # compiled
    """Of each phrase, how often each class of sounds is in it, and a bit for each run of two
    classes, then for each of three. Runs that share a bit make phrases seem nearer, never
    farther."""
    kinds, half = counts.shape[1], 64 * RUN_WORDS
    for i in range(len(first) - 1):
        for p in range(first[i], first[i + 1]):
            run = coarse[flat[p]]
            counts[i, run] = min(255, counts[i, run] + 1)
            for more in range(1, 3):
                if p + more >= first[i + 1]:
                    break
                run = run * kinds + coarse[flat[p + more]]
                bit = (run * 40_503) % half + half * (more - 1)
                bits[i, bit // 64] |= np.uint64(1) << np.uint64(bit % 64)


@njit(cache=True)
def _excluded(i, j, limit, counts, bits):  # type: ignore[no-untyped-def]  # compiled
    """Whether counts alone say that two phrases are farther apart than a limit: an edit changes one
    sound, two runs of two and three of three."""
    steps = int(limit)
    for size in range(2):
        gone = come = 0
        for k in range(size * RUN_WORDS, (size + 1) * RUN_WORDS):
            gone += _ones(bits[i, k] & ~bits[j, k])
            come += _ones(bits[j, k] & ~bits[i, k])
        if max(gone, come) > (size + 2) * steps:
            return True
    more = less = 0
    for k in range(counts.shape[1]):
        gap = int(counts[i, k]) - int(counts[j, k])
        if gap > 0:
            more += gap
        else:
            less -= gap
    return max(more, less) > limit


@njit(cache=True)
def _within(flat, a, ta, b, tb, limit, costs, table):  # type: ignore[no-untyped-def]  # compiled
    """Whether the sounds from a and from b, so many each, are at most `limit` apart."""
    while ta and tb and flat[a] == flat[b]:  # what is the same costs nothing
        a, b, ta, tb = a + 1, b + 1, ta - 1, tb - 1
    while ta and tb and flat[a + ta - 1] == flat[b + tb - 1]:
        ta, tb = ta - 1, tb - 1
    band = int(limit)
    if abs(ta - tb) > band:
        return False
    old, new = 0, 1
    for c in range(tb + 1):
        table[0, c] = c if c <= band else _FAR
    for r in range(1, ta + 1):
        low, high = max(1, r - band), min(tb, r + band)
        table[new, low - 1] = r if low == 1 and r <= band else _FAR
        best = table[new, low - 1]
        for c in range(low, high + 1):
            up = table[old, c] + 1.0 if c < r + band else _FAR
            step = costs[flat[a + r - 1], flat[b + c - 1]]
            value = min(up, table[new, c - 1] + 1.0, table[old, c - 1] + step)
            table[new, c] = value
            best = min(best, value)
        if best > limit:
            return False
        old, new = new, old
    return table[old, tb] <= limit


@njit(cache=True)
def _pairs_within(  # type: ignore[no-untyped-def]  # compiled
    flat, first, counts, bits, group, order, fresh, costs, share, most
):
    """Pairs of different groups, one of them fresh, whose distance is at most a share of the longer
    one, and how many there are. `order` is by length: what is much longer need not be looked at."""
    found = np.empty((most, 2), np.int64)
    count = 0
    table = np.empty((2, MAX_SOUNDS + 2))
    fresh_at = np.flatnonzero(fresh[order])
    for x in range(len(order)):
        i = order[x]
        length = first[i + 1] - first[i]
        every = fresh[i]
        y = x if every else np.searchsorted(fresh_at, x + 1) - 1
        while True:
            y += 1
            if y >= (len(order) if every else len(fresh_at)):
                break
            j = order[y] if every else order[fresh_at[y]]
            longer = first[j + 1] - first[j]
            limit = share * longer + 1e-9
            if longer - length > limit:
                break
            if group[i] == group[j] or longer == 0 or longer > MAX_SOUNDS:
                continue
            if _excluded(i, j, limit, counts, bits):
                continue
            if _within(flat, first[i], length, first[j], longer, limit, costs, table):
                if count < most:
                    found[count, 0], found[count, 1] = min(i, j), max(i, j)
                count += 1
    return found[: min(count, most)], count
