"""All pronunciations of a vocabulary as a tree: words that begin alike share their beginning."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.language.phonemes import base
from fond_echo.core.recognition.symbols import SYMBOLS
from fond_echo.core.recognition.words import Floats, Ints, WordModel

UNLIKELY = -99.0


@dataclass(frozen=True, eq=False)
class PronunciationTree:
    """Nodes and the words that end in them, as lists linked by number; −1 ends a list.

    Attributes:
        symbols: by node, the network's output.
        child, sibling: by node, its first child and the next child of its parent.
        entry: by node, the first of the words that end here.
        entry_word, entry_next: by entry, the word's number and the next entry.
        best: by node, the log probability of the likeliest word at or below it; 0 at the root.
    """

    symbols: Ints
    child: Ints
    sibling: Ints
    entry: Ints
    entry_word: Ints
    entry_next: Ints
    best: Floats

    def save(self, file: Path) -> None:
        """Write it for `load`. Links are kept as steps from where they stand: mostly the same."""
        np.savez_compressed(
            file,
            symbols=self.symbols.astype(np.uint8),
            child=_steps(self.child),
            sibling=_steps(self.sibling),
            entry=self.entry,
            entry_word=self.entry_word.astype(np.uint16),
            entry_next=self.entry_next,
            best=self.best.astype(np.float16),
        )

    @classmethod
    def load(cls, arrays: Mapping[str, npt.NDArray[np.generic]]) -> PronunciationTree:
        """What `save` wrote."""
        return cls(
            arrays["symbols"].astype(np.int32),
            _linked(arrays["child"]),
            _linked(arrays["sibling"]),
            arrays["entry"].astype(np.int32),
            arrays["entry_word"].astype(np.int32),
            arrays["entry_next"].astype(np.int32),
            arrays["best"].astype(np.float32),
        )


def _steps(links: Ints) -> Ints:
    """0 where there is no link."""
    return np.where(links < 0, 0, links - np.arange(len(links), dtype=np.int32))


def _linked(steps: npt.NDArray[np.generic]) -> Ints:
    far = steps.astype(np.int32)
    return np.where(far == 0, np.int32(-1), far + np.arange(len(far), dtype=np.int32))


class TrieBuilder:
    """Grows a tree, from nothing or from another one."""

    def __init__(self, tree: PronunciationTree | None = None) -> None:
        if tree is None:
            self._symbols, self._child, self._sibling = [0], [-1], [-1]
            self._entry, self._best = [-1], [0.0]
            self._entry_word: list[int] = []
            self._entry_next: list[int] = []
        else:
            self._symbols, self._child = tree.symbols.tolist(), tree.child.tolist()
            self._sibling, self._entry = tree.sibling.tolist(), tree.entry.tolist()
            self._best = tree.best.tolist()
            self._entry_word = tree.entry_word.tolist()
            self._entry_next = tree.entry_next.tolist()

    def add(self, word: int, likelihood: float, pronunciations: Iterable[list[int]]) -> None:
        """A word with each way to say it, as outputs of the network."""
        for pronunciation in pronunciations:
            node = 0
            for symbol in pronunciation:
                node = self._below(node, symbol)
                self._best[node] = max(self._best[node], likelihood)
            if node and not self._has(node, word):
                self._entry_word.append(word)
                self._entry_next.append(self._entry[node])
                self._entry[node] = len(self._entry_word) - 1

    def _below(self, node: int, symbol: int) -> int:
        at = self._child[node]
        while at >= 0:
            if self._symbols[at] == symbol:
                return at
            at = self._sibling[at]
        self._symbols.append(symbol)
        self._child.append(-1)
        self._sibling.append(self._child[node])
        self._entry.append(-1)
        self._best.append(UNLIKELY)
        self._child[node] = len(self._symbols) - 1
        return self._child[node]

    def _has(self, node: int, word: int) -> bool:
        at = self._entry[node]
        while at >= 0:
            if self._entry_word[at] == word:
                return True
            at = self._entry_next[at]
        return False

    def grown(self) -> PronunciationTree:
        """The tree as it is now."""
        return PronunciationTree(
            np.array(self._symbols, np.int32),
            np.array(self._child, np.int32),
            np.array(self._sibling, np.int32),
            np.array(self._entry, np.int32),
            np.array(self._entry_word, np.int32),
            np.array(self._entry_next, np.int32),
            np.array(self._best, np.float32),
        )


def tree_of(model: WordModel, lexicon: Lexicon) -> PronunciationTree:
    """The tree of all words of a model but the end of an utterance."""
    builder = TrieBuilder()
    for number, word in enumerate(model.words):
        if number:
            builder.add(number, float(model.single[number]), pronunciations_of(word, lexicon))
    return builder.grown()


def pronunciations_of(word: str, lexicon: Lexicon, *, running: bool = False) -> list[list[int]]:
    """How a word is said by itself, as outputs of the network; and in running speech if asked."""
    found = []
    ways = lexicon.pronunciations(word)
    for sounds in (*ways, *(lexicon.language.connected(word, ways) if running else ())):
        way = [SYMBOLS[base(sound)] for sound in sounds]
        if way and way not in found:
            found.append(way)
    return found
