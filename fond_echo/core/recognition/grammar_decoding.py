"""Search over what is expected: the best path of a sound through a phoneme graph.

Every phoneme has two states: itself, and the blank that may follow it (the topology of
connectionist temporal classification). A token carries its score, the frame in which its word
began and a link to the words before it, so that memory grows with the words that end and not
with frames times states.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from fond_echo.core.recognition.graph import FILLER, PhonemeGraph
from fond_echo.core.recognition.layers import Matrix
from fond_echo.core.recognition.symbols import BLANK

ANYTHING_PRICE = 3.5
"""Taken off for each frame that only fits an "anything" arc."""

ANYTHING_TOLL = 10.0
"""Taken off once for each stretch of anything: it is not to be the cheapest way around a sound."""

BLANK_PENALTY = 3.0
"""Taken off the blank in every frame. A network that was trained on made voices and is not sure of
a person's falls back on the blank, so that the shortest phrase would win."""

WORD_INSERTION_PENALTY = 3.0
"""Taken off once for each word: as blanks cost something, more words would always be found where
any number of them may be said."""

BEAM = 50.0

MAX_ACTIVE, STEPS = 3_000, 100
"""Where more places of the graph are open than this, as in networks of thousands of phrases with
different first words, the beam narrows by so many steps as it takes."""

UNREACHED = -1e30


@dataclass(frozen=True)
class FoundWord:
    """A word on the best path and its frames, the end not included."""

    word: str
    start: int
    end: int


@dataclass(frozen=True)
class Reading:
    """One way to read the sound.

    Attributes:
        words: without the "anything" stretches.
        score: the log probability of the path.
    """

    words: tuple[FoundWord, ...]
    score: float


def priced(probabilities: Matrix, price: float = BLANK_PENALTY) -> Matrix:
    """Log probabilities as they are searched, with the blank's price taken off."""
    logs = probabilities.copy()
    logs[:, BLANK] -= price
    return logs


def read(probabilities: Matrix, graph: PhonemeGraph, *, most: int = 5) -> list[Reading]:
    """The best readings of a whole sound: see `Search.readings`.

    Args:
        probabilities: log probabilities, shape (frames, outputs).
        most: how many to give; fewer where fewer paths reach an end.
    """
    search = Search(graph)
    search.feed(probabilities)
    return search.readings(most)


class Search:
    """A search that is fed as the sound comes; what it finds is the same as of the whole."""

    def __init__(self, graph: PhonemeGraph) -> None:
        self._graph = graph
        total = len(graph)
        self._roots = np.flatnonzero(graph.initial)
        self._scores = np.full((2, 2, total), UNREACHED)
        self._links = np.full((2, 2, total), -1, np.int64)
        self._begins = np.zeros((2, 2, total), np.int64)
        self._stamps = np.empty((2, 2, total), np.int64)
        self._active = np.zeros((2, total), np.int64)
        self._table = np.zeros((1024, 4), np.int64)
        self.reset()

    def reset(self) -> None:
        """Begin with another sound."""
        self._stamps.fill(-1)
        self._frames = 0
        self._used, self._count = 0, 0
        self._lead, self._best = 0.0, 0.0

    def feed(self, probabilities: Matrix) -> None:
        """The next log probabilities, shape (frames, outputs)."""
        if not len(self._graph) or not len(probabilities):
            return
        logs = priced(probabilities).astype(np.float64)
        graph = self._graph
        self._table, self._used, self._count, self._lead, self._best = _search(
            (logs, logs.max(axis=1), self._frames),
            (graph.symbols, graph.starts, self._roots, graph.first, graph.after),
            (ANYTHING_PRICE, ANYTHING_TOLL, WORD_INSERTION_PENALTY, BEAM),
            (self._scores, self._links, self._begins, self._stamps, self._active),
            (self._table, self._used, self._count, self._lead, self._best),
        )
        self._frames += len(logs)

    def readings(self, most: int = 5) -> list[Reading]:
        """The best readings of what was fed, best first, each ending in another place of the graph;
        at most so many, fewer where fewer paths reach an end."""
        if not self._frames:
            return []
        new, graph = self._frames & 1, self._graph
        there = self._stamps[new] == self._frames - 1
        scores = np.where(there, self._scores[new], UNREACHED)
        best = np.where(graph.final, scores.max(axis=0), -np.inf)
        readings: list[Reading] = []
        seen: set[tuple[str, ...]] = set()
        for place in np.argsort(-best, kind="stable"):
            if best[place] < UNREACHED / 2 or len(readings) == most:
                break
            half = int(scores[1, place] > scores[0, place])
            link, begun = self._links[new, half, place], self._begins[new, half, place]
            found = _words(place, link, begun, self._table, graph)
            found[-1] = FoundWord(found[-1].word, found[-1].start, self._frames)
            kept = tuple(each for each in found if each.word != FILLER)
            spoken = tuple(each.word for each in kept)
            if kept and spoken not in seen:
                seen.add(spoken)
                readings.append(Reading(kept, float(best[place])))
        return readings


def _words(
    place: int, link: int, start: int, table: np.ndarray, graph: PhonemeGraph
) -> list[FoundWord]:
    found = [FoundWord(graph.vocabulary[graph.words[place]], int(start), 0)]
    while link >= 0:
        entry, begin, end, before = table[link]
        found.append(FoundWord(graph.vocabulary[graph.words[entry]], int(begin), int(end)))
        link = before
    return found[::-1]


@njit(cache=True)
def _reach(half, s, t, path, ahead, count):  # type: ignore[no-untyped-def]  # compiled
    """Come to a state in frame t, if nothing better has; gives how many entries are active.

    `path` is its score, link and word start; `ahead` the arrays of the next frame.
    """
    score, link, begun = path
    scores, links, begins, stamps, active = ahead
    if stamps[half, s] == t and scores[half, s] >= score:
        return count
    if stamps[0, s] != t and stamps[1, s] != t:
        active[count] = s
        count += 1
    stamps[half, s] = t
    scores[half, s], links[half, s], begins[half, s] = score, link, begun
    return count


@njit(cache=True)
def _narrower(scores, stamps, active, count, t, best, beam):  # type: ignore[no-untyped-def]  # compiled
    """How wide a beam holds at most `MAX_ACTIVE` of the active places."""
    within = np.zeros(STEPS, np.int64)
    for k in range(count):
        s = active[k]
        top = UNREACHED
        for half in range(2):
            if stamps[half, s] == t:
                top = max(top, scores[half, s])
        step = int((best - top) * STEPS / beam)
        if step < STEPS:
            within[max(0, step)] += 1
    total = 0
    for step in range(STEPS):
        total += within[step]
        if total > MAX_ACTIVE:
            return beam * max(1, step) / STEPS
    return beam


@njit(cache=True)
def _search(sound, graph, prices, state, kept):  # type: ignore[no-untyped-def]  # compiled
    """Further frames; gives what `kept` is then, the table of ended words first.

    In the state, row 0 of each is the phoneme's own, row 1 the blank after it. Only what is within
    the beam of the best is looked at.
    """
    logs, tops, done = sound
    symbols, starts, roots, first, after = graph
    price, toll, insertion_penalty, beam = prices
    scores, links, begins, stamps, actives = state
    table, used, count, lead, best = kept
    low = UNREACHED
    for row in range(logs.shape[0]):
        t = done + row
        old, new = t & 1, 1 - (t & 1)
        ahead = (scores[new], links[new], begins[new], stamps[new], actives[new])
        width = beam
        if count > MAX_ACTIVE:
            width = _narrower(scores[old], stamps[old], actives[old], count, t - 1, best, beam)
        floor = best - width
        made = 0
        best = low
        for k in range(count):
            s = actives[old, k]
            symbol = symbols[s]
            own = scores[old, 0, s] if stamps[old, 0, s] == t - 1 else low
            blank = scores[old, 1, s] if stamps[old, 1, s] == t - 1 else low
            half = 0 if own >= blank else 1
            top = max(own, blank)
            if top < floor:
                continue
            emit = logs[row, symbol] if symbol >= 0 else tops[row] - price
            stay = top if symbol < 0 else own
            if stay >= floor:
                from_half = half if symbol < 0 else 0
                made = _reach(
                    0,
                    s,
                    t,
                    (stay + emit, links[old, from_half, s], begins[old, from_half, s]),
                    ahead,
                    made,
                )
                best = max(best, stay + emit)
            made = _reach(
                1,
                s,
                t,
                (top + logs[row, 0], links[old, half, s], begins[old, half, s]),
                ahead,
                made,
            )
            best = max(best, top + logs[row, 0])
            entry = -1
            for place in range(first[s], first[s + 1]):
                q = after[place]
                came, came_half = blank, 1
                if symbols[q] != symbol and own > blank:
                    came, came_half = own, 0
                if came < floor:
                    continue
                fits = logs[row, symbols[q]] if symbols[q] >= 0 else tops[row] - price - toll
                gained = came + fits - (insertion_penalty if starts[q] and symbols[q] >= 0 else 0.0)
                if gained < best - width:
                    continue
                if stamps[new, 0, q] == t and scores[new, 0, q] >= gained:
                    continue
                link, begun = links[old, came_half, s], begins[old, came_half, s]
                if starts[q]:
                    # A word ends here: it is written down, once for all that may follow.
                    if entry < 0 or table[entry, 1] != begun or table[entry, 3] != link:
                        if used == table.shape[0]:
                            larger = np.zeros((2 * used, 4), np.int64)
                            larger[:used] = table
                            table = larger
                        table[used, 0], table[used, 1] = s, begun
                        table[used, 2], table[used, 3] = t, link
                        entry = used
                        used += 1
                    link, begun = entry, np.int64(t)
                made = _reach(0, q, t, (gained, link, begun), ahead, made)
                best = max(best, gained)
        if lead >= floor:
            for q in roots:
                fits = logs[row, symbols[q]] if symbols[q] >= 0 else tops[row] - price - toll
                gained = lead + fits - (insertion_penalty if symbols[q] >= 0 else 0.0)
                made = _reach(0, q, t, (gained, np.int64(-1), np.int64(t)), ahead, made)
                best = max(best, gained)
        lead += logs[row, 0]
        best = max(best, lead)
        count = made
    return table, used, count, lead, best
