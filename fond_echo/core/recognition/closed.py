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

from fond_echo.core.recognition.graph import ANYTHING, PhonemeGraph
from fond_echo.core.recognition.network import Matrix

ANYTHING_PRICE = 1.7
"""Taken off for each frame that only fits an "anything" arc."""

BEAM = 60.0
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


def read(probabilities: Matrix, graph: PhonemeGraph, *, most: int = 5) -> list[Reading]:
    """The best readings of a sound, best first, each ending in another place of the graph.

    Args:
        probabilities: log probabilities, shape (frames, outputs).
        most: how many to give; fewer where fewer paths reach an end.
    """
    if not len(graph) or not len(probabilities):
        return []
    scores, links, begun, table = _search(
        probabilities.astype(np.float64),
        probabilities.max(axis=1).astype(np.float64),
        graph.symbols,
        graph.words,
        graph.starts,
        graph.initial,
        graph.first,
        graph.before,
        ANYTHING_PRICE,
        BEAM,
    )
    best = np.where(graph.final, scores.max(axis=0), -np.inf)
    readings: list[Reading] = []
    seen: set[tuple[str, ...]] = set()
    for place in np.argsort(-best, kind="stable"):
        if best[place] < UNREACHED / 2 or len(readings) == most:
            break
        half = int(scores[1, place] > scores[0, place])
        found = _words(place, links[half, place], begun[half, place], table, graph)
        found[-1] = FoundWord(found[-1].word, found[-1].start, len(probabilities))
        kept = tuple(each for each in found if each.word != ANYTHING)
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
def _search(  # type: ignore[no-untyped-def]  # compiled
    logs, tops, symbols, words, starts, initial, first, before, price, beam
):  # fmt: skip
    """Scores, links and word starts at the last frame, and the table of ended words.

    Row 0 of each is the phoneme's own state, row 1 the blank after it.
    """
    frames, count = logs.shape[0], symbols.shape[0]
    low = UNREACHED
    score = np.full((2, count), low)
    link = np.full((2, count), -1, np.int64)
    begun = np.zeros((2, count), np.int64)
    table = np.zeros((1024, 4), np.int64)
    used = 0
    ended = np.full(count, -1, np.int64)
    lead = 0.0
    for t in range(frames):
        new = np.full((2, count), low)
        new_link = np.full((2, count), -1, np.int64)
        new_begun = np.zeros((2, count), np.int64)
        ended[:] = -1
        floor = score.max() - beam if t else low
        for s in range(count):
            symbol = symbols[s]
            emit = logs[t, symbol] if symbol >= 0 else tops[t] - price
            top, from_link, from_begun = score[0, s], link[0, s], begun[0, s]
            if score[1, s] > top and symbol < 0:
                top, from_link, from_begun = score[1, s], link[1, s], begun[1, s]
            if initial[s] and lead > top:
                top, from_link, from_begun = lead, -1, t
            for k in range(first[s], first[s + 1]):
                p = before[k]
                half = 1
                came = score[1, p]
                if symbols[p] != symbol and score[0, p] > came:
                    half, came = 0, score[0, p]
                if came <= top or came < floor:
                    continue
                top = came
                if starts[s]:
                    # The link is made below, once for a word that ends here now.
                    from_link, from_begun = -2 - (2 * p + half), t
                else:
                    from_link, from_begun = link[half, p], begun[half, p]
            if top > low / 2 and top >= floor:
                new[0, s] = top + emit
                if from_link <= -2:
                    code = -2 - from_link
                    p, half = code // 2, code % 2
                    if ended[p] < 0:
                        if used == table.shape[0]:
                            larger = np.zeros((2 * used, 4), np.int64)
                            larger[:used] = table
                            table = larger
                        table[used, 0] = p
                        table[used, 1] = begun[half, p]
                        table[used, 2] = t
                        table[used, 3] = link[half, p]
                        ended[p] = used
                        used += 1
                    from_link = ended[p]
                new_link[0, s], new_begun[0, s] = from_link, from_begun
            half = 0 if score[0, s] >= score[1, s] else 1
            if score[half, s] > low / 2 and score[half, s] >= floor:
                new[1, s] = score[half, s] + logs[t, 0]
                new_link[1, s], new_begun[1, s] = link[half, s], begun[half, s]
        lead += logs[t, 0]
        score, link, begun = new, new_link, new_begun
    return score, link, begun, table
