"""What may be said, as a network of words, and the same as a graph of phonemes.

Words that may follow the same word and begin alike share their first phonemes, as in a tree: where
thousands of phrases begin with different words, few phonemes are open at once.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.recognition.tree import pronunciations_of

FILLER = "…"
"""An arc that any sounds fit, at a price: what people say around what is expected."""

_ANY = -1
Ints = npt.NDArray[np.int32]


@dataclass(frozen=True)
class WordNetwork:
    """An automaton over words: node 0 is the start.

    Attributes:
        arcs: (from node, to node, word).
        finals: nodes in which an utterance may end.
    """

    arcs: tuple[tuple[int, int, str], ...]
    finals: frozenset[int]

    @classmethod
    def of_phrases(cls, phrases: Iterable[Sequence[str]], *, around: bool = True) -> WordNetwork:
        """A network of whole phrases that share their beginnings.

        Args:
            around: whether anything may be said before and after a phrase.
        """
        children: dict[tuple[int, str], int] = {}
        ends: list[int] = []
        root, nodes = (1, 2) if around else (0, 1)
        for phrase in phrases:
            node = root
            for word in phrase:
                if (node, word) not in children:
                    children[node, word] = nodes
                    nodes += 1
                node = children[node, word]
            if node != root:
                ends.append(node)
        arcs = [(start, end, word) for (start, word), end in children.items()]
        finals = set(ends)
        if around:
            first = [(0, end, word) for start, end, word in arcs if start == root]
            arcs += [(0, root, FILLER), *first]
            for end in sorted(finals):
                arcs.append((end, nodes, FILLER))
                finals.add(nodes)
                nodes += 1
        return cls(tuple(arcs), frozenset(finals))


@dataclass(frozen=True, eq=False)
class PhonemeGraph:
    """A network as arrays for the search: one entry a phoneme of a pronounced arc, which several
    arcs may share up to their last.

    Attributes:
        symbols: the network's output index, −1 for anything.
        words: index into `vocabulary` of the word that ends here, −1 inside a word.
        starts: whether a word begins here.
        initial: whether an utterance may begin here.
        final: whether an utterance may end here.
        first, after: what may follow entry k is after[first[k]:first[k + 1]].
    """

    symbols: Ints
    words: Ints
    starts: npt.NDArray[np.bool_]
    initial: npt.NDArray[np.bool_]
    final: npt.NDArray[np.bool_]
    first: Ints
    after: Ints
    vocabulary: tuple[str, ...]

    def __len__(self) -> int:
        return len(self.symbols)


MAX_PRONUNCIATIONS, RUNNING = 4, 3


def phoneme_graph(network: WordNetwork, lexicon: Lexicon, *, running: bool = False) -> PhonemeGraph:
    """Pronounce every arc of a network in each way the lexicon knows, up to four; in running speech
    there are more."""
    vocabulary: dict[str, int] = {}
    symbols: list[int] = []
    words: list[int] = []
    starts: list[bool] = []
    inner: dict[tuple[int, int], int] = {}
    heads: dict[int, list[int]] = {}
    tails: dict[int, list[int]] = {}
    final: list[int] = []
    following: dict[int, list[int]] = {}
    spoken: dict[str, list[list[int]]] = {}

    def entry(before: int, symbol: int, word: int, node: int) -> int:
        """A new phoneme behind another one, or at the beginning of a word."""
        place = len(symbols)
        symbols.append(symbol)
        words.append(word)
        starts.append(before < 0)
        (heads if before < 0 else following).setdefault(node if before < 0 else before, []).append(
            place
        )
        return place

    for start, end, word in network.arcs:
        number = vocabulary.setdefault(word, len(vocabulary))
        if word not in spoken:
            spoken[word] = _ways(word, lexicon, running)
        for sounds in spoken[word]:
            # The tree of the words that leave a node is known by the node, then by its entries.
            place, known = -1, -1 - start
            for symbol in sounds[:-1]:
                if (known, symbol) not in inner:
                    inner[known, symbol] = entry(place, symbol, -1, start)
                place = known = inner[known, symbol]
            last = entry(place, sounds[-1], number, start)
            tails.setdefault(end, []).append(last)
            if end in network.finals:
                final.append(last)
    for node, places in tails.items():
        for place in places:
            following[place] = heads.get(node, [])
    initial = np.zeros(len(symbols), np.bool_)
    initial[heads.get(0, [])] = True
    after = [following.get(place, []) for place in range(len(symbols))]
    ending = np.zeros(len(symbols), np.bool_)
    ending[final] = True
    return PhonemeGraph(
        np.array(symbols, np.int32),
        np.array(words, np.int32),
        np.array(starts, np.bool_),
        initial,
        ending,
        np.cumsum([0, *(len(each) for each in after)], dtype=np.int32),
        np.array([place for each in after for place in each], np.int32),
        tuple(vocabulary),
    )


def _ways(word: str, lexicon: Lexicon, running: bool) -> list[list[int]]:
    if word == FILLER:
        return [[_ANY]]
    found = pronunciations_of(word, lexicon, running=running)
    return found[: MAX_PRONUNCIATIONS + RUNNING * running] or [[_ANY]]
