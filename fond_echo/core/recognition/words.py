"""Which words follow which: a model of one to three words as arrays, for the search.

A state stands for the one or two words before. From a state, the words that were seen after it
have their own probabilities; every other word costs the state's back-off and is looked up in the
state for one word less, down to state 0, which knows all words.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int32]
Floats = npt.NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class WordModel:
    """N-grams as arrays; probabilities and back-offs are natural logarithms.

    Attributes:
        words: the vocabulary; a word's number is its place. Word 0 is the end of an utterance.
        single: by word, its probability by itself.
        after: by word, the state that it leads to from state 0.
        first: by state, where its arcs begin; one longer than there are states.
        arc_word, arc_log, arc_to: by arc, sorted by word within a state.
        backoff: by state, what it costs to look in the state for one word less.
        less: by state, that state.
        start: the state at the beginning of an utterance.
    """

    words: tuple[str, ...]
    single: Floats
    after: Ints
    first: Ints
    arc_word: Ints
    arc_log: Floats
    arc_to: Ints
    backoff: Floats
    less: Ints
    start: int

    @classmethod
    def empty(cls) -> WordModel:
        """A model of no words, to which those that are expected are added."""
        no, log = np.zeros(0, np.int32), np.zeros(0, np.float32)
        return cls(
            ("</s>",), np.zeros(1, np.float32), np.zeros(1, np.int32), np.zeros(2, np.int32),
            no, log, no, np.zeros(1, np.float32), np.zeros(1, np.int32), 0,
        )  # fmt: skip

    @property
    def numbers(self) -> dict[str, int]:
        """Words and their numbers."""
        return {word: number for number, word in enumerate(self.words)}

    def with_words(self, more: Mapping[str, float]) -> WordModel:
        """The model with further words, or with known ones made likelier.

        Args:
            more: words and the logarithm of the probability they shall have at least.
        """
        numbers = self.numbers
        new = [word for word in more if word not in numbers]
        single = np.concatenate([self.single, np.full(len(new), -99.0, np.float32)])
        words = (*self.words, *new)
        numbers = {word: number for number, word in enumerate(words)}
        for word, least in more.items():
            number = numbers[word]
            single[number] = max(single[number], np.float32(least))
        after = np.concatenate([self.after, np.zeros(len(new), np.int32)])
        return replace(self, words=words, single=single, after=after)

    def log(self, before: Sequence[str], word: str) -> float:
        """How likely a word is after others; for looking at, not for the search."""
        numbers = self.numbers
        state = self.start
        for each in before:
            state = self.step(state, numbers[each])[1]
        return self.step(state, numbers[word])[0]

    def ending(self, state: int) -> float:
        """How likely an utterance ends in a state."""
        return self.step(state, 0)[0]

    def save(self, file: Path) -> None:
        """Write it for `load`; logarithms keep three digits. Words are kept as steps from the arc
        before, and states as how far they are from where the word alone would lead: mostly not at
        all."""
        steps = np.diff(self.arc_word, prepend=0)
        begins = self.first[:-1][np.diff(self.first) > 0]
        steps[begins] = self.arc_word[begins]
        ends = np.cumsum([len(word.encode()) for word in self.words])
        np.savez_compressed(
            file,
            words=np.frombuffer("".join(self.words).encode(), np.uint8),
            ends=ends.astype(np.int32),
            single=self.single.astype(np.float16),
            counts=np.diff(self.first).astype(np.uint16),
            arc_step=steps.astype(np.uint16),
            arc_log=np.round(self.arc_log * 8).astype(np.int8),
            arc_further=self.arc_to - self.after[self.arc_word],
            backoff=np.round(self.backoff * 8).astype(np.int8),
            less=self.less,
            after=self.after,
            start=np.array(self.start),
        )

    @classmethod
    def load(cls, arrays: Mapping[str, npt.NDArray[np.generic]]) -> WordModel:
        """What `save` wrote."""
        text = arrays["words"].tobytes()
        edges = [0, *(int(each) for each in arrays["ends"])]
        counts = arrays["counts"].astype(np.int64)
        first = np.cumsum([0, *counts])
        steps, begins = arrays["arc_step"].astype(np.int64), first[:-1][counts > 0]
        whole = np.cumsum(steps)
        arc_word = whole - np.repeat(whole[begins] - steps[begins], counts[counts > 0])
        after = arrays["after"].astype(np.int32)
        return cls(
            tuple(text[a:b].decode() for a, b in itertools.pairwise(edges)),
            arrays["single"].astype(np.float32),
            after,
            first.astype(np.int32),
            arc_word.astype(np.int32),
            np.asarray(arrays["arc_log"].astype(np.float32) / 8, np.float32),
            np.asarray(after[arc_word] + arrays["arc_further"], np.int32),
            np.asarray(arrays["backoff"].astype(np.float32) / 8, np.float32),
            arrays["less"].astype(np.int32),
            int(arrays["start"]),
        )

    def step(self, state: int, word: int) -> tuple[float, int]:
        """The log probability of a word (by its number) in a state, and the state after it."""
        total = 0.0
        while state:
            low, high = self.first[state], self.first[state + 1]
            place = low + int(np.searchsorted(self.arc_word[low:high], word))
            if place < high and self.arc_word[place] == word:
                return total + float(self.arc_log[place]), int(self.arc_to[place])
            total += float(self.backoff[state])
            state = int(self.less[state])
        return total + float(self.single[word]), int(self.after[word])


END = ""
"""The word that stands for the end of an utterance."""
