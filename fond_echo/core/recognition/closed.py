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

BEAM = 50.0
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
        graph.starts,
        graph.initial,
        graph.first,
        graph.after,
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
def _search(  # type: ignore[no-untyped-def]  # compiled
    logs, tops, symbols, starts, initial, first, after, price, beam
):  # fmt: skip
    """Scores, links and word starts at the last frame, and the table of ended words.

    Row 0 of each is the phoneme's own state, row 1 the blank after it. Only what is within the beam
    of the best is looked at.
    """
    frames, total = logs.shape[0], symbols.shape[0]
    low = UNREACHED
    scores = np.full((2, 2, total), low)
    links = np.full((2, 2, total), -1, np.int64)
    begins = np.zeros((2, 2, total), np.int64)
    stamps = np.full((2, 2, total), -1, np.int64)
    active = np.zeros((2, total), np.int64)
    roots = np.flatnonzero(initial)
    table = np.zeros((1024, 4), np.int64)
    used, count, lead, best = 0, 0, 0.0, 0.0
    for t in range(frames):
        old, new = t & 1, 1 - (t & 1)
        ahead = (scores[new], links[new], begins[new], stamps[new], active[new])
        floor = best - beam
        made = 0
        best = low
        for k in range(count):
            s = active[old, k]
            symbol = symbols[s]
            own = scores[old, 0, s] if stamps[old, 0, s] == t - 1 else low
            blank = scores[old, 1, s] if stamps[old, 1, s] == t - 1 else low
            half = 0 if own >= blank else 1
            top = max(own, blank)
            if top < floor:
                continue
            emit = logs[t, symbol] if symbol >= 0 else tops[t] - price
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
                1, s, t, (top + logs[t, 0], links[old, half, s], begins[old, half, s]), ahead, made
            )
            best = max(best, top + logs[t, 0])
            entry = -1
            for place in range(first[s], first[s + 1]):
                q = after[place]
                came, came_half = blank, 1
                if symbols[q] != symbol and own > blank:
                    came, came_half = own, 0
                if came < floor:
                    continue
                gained = came + (logs[t, symbols[q]] if symbols[q] >= 0 else tops[t] - price)
                if gained < best - beam or (stamps[new, 0, q] == t and scores[new, 0, q] >= gained):
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
                gained = lead + (logs[t, symbols[q]] if symbols[q] >= 0 else tops[t] - price)
                made = _reach(0, q, t, (gained, np.int64(-1), np.int64(t)), ahead, made)
                best = max(best, gained)
        lead += logs[t, 0]
        best = max(best, lead)
        count = made
    new = frames & 1
    for half in range(2):
        for s in range(total):
            if stamps[new, half, s] != frames - 1:
                scores[new, half, s] = low
    return scores[new], links[new], begins[new], table
