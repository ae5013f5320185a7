"""What the recognizer is tested with: speakers, sentences and noises that no training has.

A condition spoils an utterance in one way only, so that figures can be told apart.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from fond_echo.core.audio.clip import Clip
from fond_echo.core.language.en.numbers import digits
from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.recognition.graph import WordNetwork
from fond_echo.core.synthesis.tracks import RATE
from training import rooms
from training.generate import utter
from training.sentences import MAX_WORDS, Grammar, is_test
from training.speakers import draw

TEST_SEED = 7_000_000
FITTING_SEED = 8_000_000
"""Speakers for fitting confidences: neither trained on nor tested with."""

Rng = np.random.Generator


@dataclass(frozen=True)
class Condition:
    """How an utterance arrives.

    Attributes:
        spoil: from clean samples to what is heard; it may use other people's speech.
        outside: whether speakers lie beyond the range of the training's.
    """

    name: str
    spoil: Callable[[rooms.Samples, Rng, list[rooms.Samples]], rooms.Samples]
    outside: bool = False


def _noisy(samples: rooms.Samples, rng: Rng, others: list[rooms.Samples]) -> rooms.Samples:
    added = rooms.noise(str(rng.choice(rooms.TEST_NOISES)), len(samples), rng, others)
    return rooms.with_noise(samples, added, 10.0)


CONDITIONS = (
    Condition("clean", lambda samples, rng, others: samples),
    Condition("telephone", lambda samples, rng, others: rooms.companded(samples, "mu")),
    Condition("Opus 16 kbit/s", lambda samples, rng, others: rooms.opus(samples, 16, 0.0, rng)),
    Condition("10 dB noise", _noisy),
    Condition("outside speakers", lambda samples, rng, others: samples, outside=True),
)


@dataclass(frozen=True)
class Heard:
    """A test utterance."""

    words: tuple[str, ...]
    clip: Clip


class Speech:
    """Says sentences in one condition, each by another person."""

    def __init__(self, condition: Condition, known: Lexicon, seed: int) -> None:
        self._condition, self._known = condition, known
        self._rng = np.random.default_rng(seed)
        self._others: list[rooms.Samples] = []
        while len(self._others) < 12:
            self._others.append(self._said("i wonder what they are all talking about".split()))

    def _said(self, words: list[str]) -> rooms.Samples:
        person = draw(self._rng, outside=self._condition.outside)
        return utter(words, person, self._known, self._rng).samples

    def say(self, words: list[str]) -> Heard:
        """A sentence, at a level of −6 dB."""
        clean = self._said(words)
        clean = clean / (np.abs(clean).max() + 1e-9) * np.float32(0.5)
        heard = self._condition.spoil(clean, self._rng, self._others)
        return Heard(tuple(words), Clip(np.asarray(heard, np.float32), RATE))


def sentences(rng: random.Random, texts: list[list[str]], known: set[str]) -> Iterator[list[str]]:
    """Test sentences without end: two of the grammar, then one of WordNet's examples."""
    grammar = Grammar()
    texts = [each for each in texts if is_test(each) and len(each) >= 3 and set(each) <= known]
    while True:
        for _ in range(2):
            yield sentence(grammar, rng)
        if texts:
            yield rng.choice(texts)


def sentence(grammar: Grammar, rng: random.Random) -> list[str]:
    """A test sentence of the grammar."""
    while True:
        words = grammar.one(rng)
        if 3 <= len(words) <= MAX_WORDS and is_test(words):
            return words


def phrases(rng: random.Random, count: int) -> list[list[str]]:
    """A closed set: different test sentences of at most ten words."""
    grammar, found = Grammar(), {}
    while len(found) < count:
        words = sentence(grammar, rng)
        if len(words) <= 10:
            found[" ".join(words)] = words
    return list(found.values())


def number(rng: random.Random) -> list[str]:
    """Ten digits."""
    return digits("".join(rng.choice("0123456789") for _ in range(10)))


def digit_network() -> WordNetwork:
    """Three to sixteen digits."""
    ten = "zero one two three four five six seven eight nine".split()
    arcs = tuple((k, k + 1, word) for k in range(16) for word in ten)
    return WordNetwork(arcs, frozenset(range(3, 17)))


_ONSETS = "b br c d dr f fl g gr h j k l m n p pr r s st t tr v w".split()
_MIDDLES = "a e i o u ea oa ai".split()
_ENDS = "ck l m n nd rn st ss th tt ry ley wick by vo la".split()


def name(rng: random.Random) -> str:
    """A made-up name of two or three syllables."""
    middle = "".join(rng.choice(_ONSETS) + rng.choice(_MIDDLES) for _ in range(rng.randint(1, 2)))
    return (
        middle
        + rng.choice(["n", "r", "l", "m", "s"])
        + rng.choice(_MIDDLES[:5])
        + rng.choice(_ENDS)
    )


AROUND = (
    "i want to go to {} tomorrow",
    "when is the next boat to {}",
    "please put me through to {}",
    "how much is a ticket to {}",
    "my name is {}",
    "is {} open today",
    "i left my bag in {}",
    "{} please",
)
