"""Dictation: words found freely, by a beam over a tree of pronunciations and word pairs."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence

from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.language.phonemes import base
from fond_echo.core.recognition.closed import FoundWord, Reading
from fond_echo.core.recognition.network import Matrix
from fond_echo.core.recognition.symbols import SYMBOLS

TOKENS = 120
BEAM = 14.0
SYMBOL_BEAM = 8.0
LANGUAGE_WEIGHT = 0.7
START = ""


class WordPairs:
    """How likely a word is after another: pairs where they were seen, else single words.

    Interpolated as by Witten and Bell (1991): the more different words followed, the more is
    left to words that did not.

    Args:
        frequencies: how often each word occurs; this is also the vocabulary.
        sentences: spoken tokens to count pairs in; words outside the vocabulary break them.
    """

    def __init__(
        self, frequencies: Mapping[str, float], sentences: Iterable[Sequence[str]] = ()
    ) -> None:
        total = sum(frequencies.values())
        self._single = {word: value / total for word, value in frequencies.items()}
        self._pairs: dict[tuple[str, str], int] = defaultdict(int)
        self._after: dict[str, int] = defaultdict(int)
        self._kinds: dict[str, int] = defaultdict(int)
        for sentence in sentences:
            for before, word in zip([START, *sentence], sentence, strict=False):
                if word not in self._single:
                    continue
                self._kinds[before] += (before, word) not in self._pairs
                self._pairs[before, word] += 1
                self._after[before] += 1

    @property
    def vocabulary(self) -> Iterable[str]:
        return self._single

    def single(self, word: str) -> float:
        """The log probability of a word by itself."""
        return math.log(self._single[word])

    def following(self, before: str, word: str) -> float:
        """The log probability of a word after another."""
        seen = self._after.get(before, 0)
        if not seen:
            return self.single(word)
        trust = seen / (seen + self._kinds[before])
        pair = self._pairs.get((before, word), 0) / seen
        return math.log(trust * pair + (1 - trust) * self._single[word])


class PronunciationTree:
    """All pronunciations of a vocabulary, sharing beginnings, with the best word below each."""

    def __init__(self, pairs: WordPairs, lexicon: Lexicon) -> None:
        self.children: list[dict[int, int]] = [{}]
        self.words: list[list[str]] = [[]]
        self.best: list[float] = [0.0]
        for word in pairs.vocabulary:
            for sounds in lexicon.pronunciations(word):
                self._add(word, [SYMBOLS[base(sound)] for sound in sounds], pairs.single(word))

    def _add(self, word: str, symbols: list[int], likelihood: float) -> None:
        node = 0
        for symbol in symbols:
            if symbol not in self.children[node]:
                self.children[node][symbol] = len(self.children)
                self.children.append({})
                self.words.append([])
                self.best.append(-99.0)
            node = self.children[node][symbol]
            self.best[node] = max(self.best[node], likelihood)
        if word not in self.words[node]:
            self.words[node].append(word)


_History = tuple[str, int, int, "_History | None"]
_Key = tuple[int, int, str]


def dictate(probabilities: Matrix, tree: PronunciationTree, pairs: WordPairs) -> Reading | None:
    """The best word sequence, or None where no path ends at a word's end.

    A hypothesis is a place in the tree, the last symbol and the word before; it carries its
    score, the frame in which its word began and its history.
    """
    tokens: dict[_Key, tuple[float, int, _History | None]] = {(0, 0, START): (0.0, 0, None)}
    cache: dict[tuple[str, str], float] = {}
    for t, row in enumerate(probabilities.tolist()):
        top = max(score for score, _, _ in tokens.values())
        alive = [item for item in tokens.items() if item[1][0] > top - BEAM]
        if len(alive) > TOKENS:
            alive = sorted(alive, key=lambda item: -item[1][0])[:TOKENS]
        floor = max(row) - SYMBOL_BEAM
        new: dict[_Key, tuple[float, int, _History | None]] = {}

        def put(key: _Key, score: float, begun: int, history: _History | None) -> None:
            old = new.get(key)  # noqa: B023  # used within this frame only
            if old is None or score > old[0]:
                new[key] = (score, begun, history)  # noqa: B023

        for (node, last, before), (score, begun, history) in alive:
            put((node, 0, before), score + row[0], begun, history)
            if last:
                put((node, last, before), score + row[last], begun, history)
            for symbol, child in tree.children[node].items():
                if symbol == last or row[symbol] < floor:
                    continue
                start = t if node == 0 else begun
                moved = score + row[symbol]
                ahead = tree.best[node]
                if tree.children[child]:
                    gained = LANGUAGE_WEIGHT * (tree.best[child] - ahead)
                    put((child, symbol, before), moved + gained, start, history)
                for word in tree.words[child]:
                    if (before, word) not in cache:
                        cache[before, word] = pairs.following(before, word)
                    gained = LANGUAGE_WEIGHT * (cache[before, word] - ahead)
                    entry = (word, start, t + 1, history)
                    put((0, symbol, word), moved + gained, start, entry)
        tokens = new
    ended = [(score, history) for (node, _, _), (score, _, history) in tokens.items() if node == 0]
    ended = [item for item in ended if item[1] is not None]
    if not ended:
        return None
    score, history = max(ended, key=lambda item: item[0])
    words: list[FoundWord] = []
    while history is not None:
        word, start, end, history = history
        words.append(FoundWord(word, start, end))
    return Reading(tuple(words[::-1]), score)
