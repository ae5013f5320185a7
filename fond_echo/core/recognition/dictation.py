"""Dictation: words found freely, by a beam over a tree of pronunciations and a model of words.

A hypothesis is a place in the tree, the last symbol heard (0 for the blank) and a state of the word
model; of those that agree in all three only the best lives on. It carries its score, the frame in
which its word began and a link into the table of words that ended.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

from fond_echo.core.recognition.grammar_decoding import FoundWord, Reading, priced
from fond_echo.core.recognition.layers import Matrix
from fond_echo.core.recognition.tree import PronunciationTree
from fond_echo.core.recognition.words import WordModel

TOKENS = 1_000
BEAM = 16.0
SYMBOL_BEAM = 9.0
"""So many hypotheses live on, so far below the best one; and symbols so far below a frame's
likeliest are not tried. With 400, 15 and 7 twice as many words were wrong in clean speech, for a
third of the work."""

LANGUAGE_WEIGHT = 0.9
BLANK_PENALTY = 2.0
"""Taken off the blank in every frame, so that what is heard unsurely is not passed over."""

WIDER = 1.2
"""Beside the beam that would have been enough in the frame before."""

PAIR_BONUS = 1.5
"""Added to the log probability of two words in a row that a hint has."""

FAR_BETTER = 5.0
"""About what a word costs in the model of words."""

_SLOTS = 1 << 14
_UNREACHED = -1e30


@dataclass(frozen=True, eq=False)
class Vocabulary:
    """What dictation knows: words, how they are said, what follows what, and hints.

    Attributes:
        pairs: sorted numbers, first word × 2³² + second, of pairs that are expected.
    """

    model: WordModel
    tree: PronunciationTree
    pairs: npt.NDArray[np.int64]

    @staticmethod
    def paired(model: WordModel, phrases: Iterable[list[str]]) -> npt.NDArray[np.int64]:
        """The pairs of words in phrases; words that the model lacks are left out."""
        numbers = model.numbers
        found = set()
        for phrase in phrases:
            known = [numbers.get(word, 0) for word in phrase]
            found |= {(a << 32) + b for a, b in zip([0, *known], known, strict=False) if b}
        return np.array(sorted(found), np.int64)


class Dictation:
    """One utterance, fed in pieces."""

    def __init__(self, vocabulary: Vocabulary) -> None:
        self._vocabulary = vocabulary
        model, tree = vocabulary.model, vocabulary.tree
        self._whole = np.zeros((4, TOKENS + 1), np.int64)
        self._scores = np.zeros(TOKENS + 1)
        self._whole[:, 0] = 0, 0, model.start, -1
        self._begun = np.zeros(TOKENS + 1, np.int64)
        self._count = 1
        self._table = np.zeros((2 * _SLOTS, 4), np.int64)
        self._used = 0
        self._frames = 0
        self._beam = BEAM
        self._fixed = (
            tree.symbols, tree.child, tree.sibling, tree.entry, tree.entry_word, tree.entry_next,
            tree.best, model.single, model.after, model.first, model.arc_word, model.arc_log,
            model.arc_to, model.backoff, model.less, vocabulary.pairs,
        )  # fmt: skip
        self._slots = np.full(_SLOTS, -1, np.int64)
        most = _SLOTS // 2
        self._ahead = (
            np.empty(most, np.int64), np.empty((4, most), np.int64), np.empty(most, np.int64),
            np.empty(most),
        )  # fmt: skip

    def feed(self, logs: Matrix) -> None:
        """The next rows of log probabilities, shape (n, outputs)."""
        for row in priced(logs, BLANK_PENALTY).astype(np.float64):
            while self._used + _SLOTS // 2 > len(self._table):
                self._table = np.concatenate([self._table, np.zeros_like(self._table)])
            self._count, self._used, self._beam = _advance(
                row, self._frames, self._whole, self._begun, self._scores, self._count,
                self._table, self._used, self._slots, self._ahead, self._fixed,
                (TOKENS, self._beam, BEAM, SYMBOL_BEAM, LANGUAGE_WEIGHT, PAIR_BONUS),
            )  # fmt: skip
            self._frames += 1

    def so_far(self) -> list[FoundWord]:
        """The words that have ended on the best path."""
        if not self._count:
            return []
        best = int(np.argmax(self._scores[: self._count]))
        return self._words(int(self._whole[3, best]))

    def finish(self, most: int = 5) -> list[Reading]:
        """Readings of the whole, best first; none where no word ended, or where nothing at all fits
        far better."""
        model = self._vocabulary.model
        found = []
        nothing = _UNREACHED
        for place in range(self._count):
            node, _, state, link = (int(each) for each in self._whole[:, place])
            if node == 0 and link >= 0:
                score = self._scores[place] + LANGUAGE_WEIGHT * model.ending(state)
                found.append((score, link))
            elif node == 0:
                nothing = max(nothing, float(self._scores[place]))
        if found and nothing > max(found)[0] + FAR_BETTER:
            return []
        if not found and (words := self.so_far()):
            return [Reading(tuple(words), float(self._scores[: self._count].max()))]
        readings: list[Reading] = []
        seen: set[tuple[str, ...]] = set()
        for score, link in sorted(found, reverse=True):
            words = self._words(link)
            spoken = tuple(each.word for each in words)
            if spoken not in seen:
                seen.add(spoken)
                readings.append(Reading(tuple(words), float(score)))
            if len(readings) == most:
                break
        return readings

    def _words(self, link: int) -> list[FoundWord]:
        found = []
        while link >= 0:
            word, start, end, link = (int(each) for each in self._table[link])
            found.append(FoundWord(self._vocabulary.model.words[word], start, end))
        return found[::-1]


def dictate(logs: Matrix, vocabulary: Vocabulary, most: int = 5) -> list[Reading]:
    """Readings of a sound, best first."""
    search = Dictation(vocabulary)
    search.feed(logs)
    return search.finish(most)


@njit(cache=True)
def _find(slots, keys, key):  # type: ignore[no-untyped-def]  # compiled
    """The slot of a key, or the free one where it belongs; `slots` hold places in `keys`."""
    mask = slots.shape[0] - 1
    at = (key * 0x5851F42D4C957F2D >> 40) & mask
    while slots[at] >= 0 and keys[slots[at]] != key:
        at = (at + 1) & mask
    return at


@njit(cache=True)
def _claimed(slots, keys, scores, made, key, score):  # type: ignore[no-untyped-def]  # compiled
    """The place of a hypothesis, −1 where a better one has it; and how many there are."""
    at = _find(slots, keys, key)
    place = slots[at]
    if place < 0:
        slots[at] = made
        keys[made] = key
        return made, made + 1
    if scores[place] >= score:
        return np.int64(-1), made
    return place, made


@njit(cache=True)
def _following(state, word, previous, fixed):  # type: ignore[no-untyped-def]  # compiled
    """Log probability of a word in a state, and the state after it."""
    single, after, first, arc_word, arc_log, arc_to, backoff, less, pairs = fixed
    total = 0.0
    to = after[word]
    found = False
    while state:
        low, high = first[state], first[state + 1]
        place = low + np.searchsorted(arc_word[low:high], word)
        if place < high and arc_word[place] == word:
            total += arc_log[place]
            to = arc_to[place]
            found = True
            break
        total += backoff[state]
        state = less[state]
    if not found:
        total += single[word]
    hinted = False
    if pairs.shape[0]:
        key = (np.int64(previous) << 32) + word
        place = np.searchsorted(pairs, key)
        hinted = place < pairs.shape[0] and pairs[place] == key
    return total, to, hinted


@njit(cache=True)
def _advance(  # type: ignore[no-untyped-def]  # compiled
    row, t, whole, begun, scores, count, table, used, slots, ahead, fixed, prosodies
):  # fmt: skip
    """One frame: `whole` holds node, last symbol, state and link by token; `ahead` is room for the
    keys, the same four, word starts and scores of those after it. Gives how many tokens and how
    many entries of the table there are now, and the beam for the next frame: where more would
    live on than may, hardly wider than it has turned out to be."""
    (
        symbols,
        child,
        sibling,
        entry,
        entry_word,
        entry_next,
        best,
        single,
        after,
        first,
        arc_word,
        arc_log,
        arc_to,
        backoff,
        less,
        pairs,
    ) = fixed
    model = (single, after, first, arc_word, arc_log, arc_to, backoff, less, pairs)
    tokens, beam, widest, symbol_beam, weight, pair_bonus = prosodies
    keys, new, new_begun, new_scores = ahead
    most = keys.shape[0]
    made = 0
    first_of_all = np.argmax(scores[:count])
    top = scores[first_of_all]
    floor = row.max() - symbol_beam
    # What the best one reaches at least is a bar for all, from the first on.
    reached = top + max(row[0], row[whole[1, first_of_all]])
    for k in range(count):
        score = scores[k]
        if score < top - beam:
            continue
        node, last, state, link = whole[0, k], whole[1, k], whole[2, k], whole[3, k]
        previous = table[link, 0] if link >= 0 else 0
        c = np.int64(-2)
        # First the blank, then the same symbol for longer, then every child.
        while c != -1:
            if c == -2:
                to_node, symbol, gained = node, np.int64(0), score + row[0]
                c = np.int64(-3)
            elif c == -3:
                to_node, symbol, gained = node, last, score + row[last]
                c = np.int64(child[node])
                if last == 0:
                    continue
            else:
                to_node, symbol = c, np.int64(symbols[c])
                c = np.int64(sibling[c])
                if symbol == last or row[symbol] < floor:
                    continue
                gained = score + row[symbol]
                start = t if node == 0 else begun[k]
                e = entry[to_node]
                while e >= 0:
                    word = entry_word[e]
                    e = entry_next[e]
                    log, to_state, hinted = _following(state, word, previous, model)
                    if hinted:
                        log += pair_bonus
                    total = gained + weight * (log - best[node])
                    if total < reached - beam or made >= most - 2:
                        continue
                    reached = max(reached, total)
                    key = (np.int64(to_state) << 26) + symbol
                    place, made = _claimed(slots, keys, new_scores, made, key, total)
                    if place < 0:
                        continue
                    if used < table.shape[0]:
                        table[used, 0], table[used, 1] = word, start
                        table[used, 2], table[used, 3] = t + 1, link
                        new[0, place], new[1, place] = 0, symbol
                        new[2, place], new[3, place] = to_state, used
                        new_begun[place], new_scores[place] = t + 1, total
                        used += 1
                if child[to_node] < 0:
                    continue
                gained += weight * (best[to_node] - best[node])
            if gained < reached - beam or made >= most - 2:
                continue
            reached = max(reached, gained)
            key = (np.int64(state) << 26) + (to_node << 6) + symbol
            place, made = _claimed(slots, keys, new_scores, made, key, gained)
            if place < 0:
                continue
            new[0, place], new[1, place], new[2, place], new[3, place] = (
                to_node,
                symbol,
                state,
                link,
            )
            new_begun[place] = t if node == 0 and to_node != 0 else begun[k]
            new_scores[place] = gained
    slots[:] = -1
    bar, after_this = reached - beam, widest
    if made > tokens:
        bar = max(bar, -np.partition(-new_scores[:made], tokens)[tokens])
        after_this = min(widest, 1.0 + WIDER * (reached - bar))
    kept = 0
    for k in range(made):
        if new_scores[k] >= bar and kept < tokens:
            whole[:, kept] = new[:, k]
            begun[kept], scores[kept] = new_begun[k], new_scores[k]
            kept += 1
    return kept, used, after_this
