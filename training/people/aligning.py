"""Which pronunciations were used, and when each phoneme was said: the best path of a known text.

The states are those of connectionist temporal classification: each phoneme of a graph, and the
blank that may follow it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

from fond_echo.core.recognition.graph import PhonemeGraph
from fond_echo.core.recognition.network import Matrix

LOW = -1e30


@dataclass(frozen=True)
class Alignment:
    """The best path.

    Attributes:
        sounds: the network's outputs in order.
        entries: of the graph, one for each sound.
        labels: the output of each frame; between two phonemes, the nearer one. 0 before the first
            and after the last.
        loss: negative log probability of the path, a phoneme.
    """

    sounds: npt.NDArray[np.uint8]
    entries: npt.NDArray[np.int64]
    labels: npt.NDArray[np.uint8]
    loss: float


def align(logs: Matrix, graph: PhonemeGraph) -> Alignment | None:
    """The best path of a sound through a graph; None where it has too few frames for any.

    Args:
        logs: log probabilities, shape (frames, outputs), column 0 the blank.
    """
    before: list[list[int]] = [[] for _ in range(len(graph))]
    for k in range(len(graph)):
        for q in graph.after[graph.first[k] : graph.first[k + 1]]:
            before[q].append(k)
    starts = np.cumsum([0, *map(len, before)])
    flat = np.array([k for each in before for k in each], np.int64)
    score, path = _best(
        logs.astype(np.float64), graph.symbols, graph.initial, graph.final, starts, flat
    )
    if score <= LOW / 2:
        return None
    frames = np.flatnonzero(path >= 0)
    symbols = np.where(path >= 0, graph.symbols[path], 0)
    # A phoneme may follow itself: another entry of the graph is another sound.
    entries = path[frames]
    fresh = np.flatnonzero(np.concatenate([[True], entries[1:] != entries[:-1]]))
    sounds = symbols[frames[fresh]].astype(np.uint8)
    labels = np.zeros(len(logs), np.uint8)
    first, last = int(frames[0]), int(frames[-1])
    nearest = np.abs(np.arange(first, last + 1)[:, None] - frames[None]).argmin(axis=1)
    labels[first : last + 1] = symbols[frames[nearest]]
    return Alignment(sounds, entries[fresh], labels, -score / max(1, len(sounds)))


@njit(cache=True)
def _best(logs, symbols, initial, final, starts, before):  # type: ignore[no-untyped-def]  # compiled
    """Score of the best path, and the entry that sounds in each frame (−1: a blank).

    State 2k is entry k, 2k + 1 the blank after it; the last state is the blank before everything.
    """
    count, total = logs.shape[0], symbols.shape[0]
    lead = 2 * total
    scores = np.full(2 * total + 1, LOW)
    back = np.full((count, 2 * total + 1), -1, np.int32)
    for t in range(count):
        new = np.full(2 * total + 1, LOW)
        new[lead] = logs[t, 0] + (scores[lead] if t else 0.0)
        back[t, lead] = lead
        for k in range(total):
            best, came = scores[2 * k], 2 * k
            if initial[k]:
                opening = scores[lead] if t else 0.0
                if opening > best:
                    best, came = opening, lead
            for place in range(starts[k], starts[k + 1]):
                q = before[place]
                if scores[2 * q + 1] > best:
                    best, came = scores[2 * q + 1], 2 * q + 1
                if symbols[q] != symbols[k] and scores[2 * q] > best:
                    best, came = scores[2 * q], 2 * q
            if best > LOW / 2:
                new[2 * k] = best + logs[t, symbols[k]]
                back[t, 2 * k] = came
            rest, rest_came = scores[2 * k + 1], 2 * k + 1
            if scores[2 * k] > rest:
                rest, rest_came = scores[2 * k], 2 * k
            if rest > LOW / 2:
                new[2 * k + 1] = rest + logs[t, 0]
                back[t, 2 * k + 1] = rest_came
        scores = new
    top, at = LOW, -1
    for k in range(total):
        if final[k]:
            for half in range(2):
                if scores[2 * k + half] > top:
                    top, at = scores[2 * k + half], 2 * k + half
    path = np.full(count, -1, np.int64)
    if at < 0:
        return LOW, path
    for t in range(count - 1, -1, -1):
        if at < lead and at % 2 == 0:
            path[t] = at // 2
        at = back[t, at]
    return top, path
