"""How sure to be: from how well words fit the sound to the chance that they are right.

The weights are fitted on synthetic speakers that are in no test (`training/calibrate.py`), so that
of all words that are given 0.8, eight in ten are right there; those of closed sets on recordings of
people, too. People's voices are not that world: the network is less sure of its sounds in them, and
dictated words are then believed less.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fond_echo.core.recognition.grammar_decoding import Reading, priced
from fond_echo.core.recognition.layers import Matrix
from fond_echo.core.recognition.symbols import BLANK

Weights = tuple[float, ...]

CLOSED: Weights = (2.497, 0.991, 0.0, 1.668, 1.157, -1.109, -0.268)
CHOSEN: Weights = (1.197, 0.465, 0.0, 1.467, 3.018, -0.65, 0.407)
WORD: Weights = (2.441, 0.935, 3.007, 0.288, 0.05)
"""A constant, then one a measure, in the order in which `fit` and `word_fit` give them. `CHOSEN` is
for closed sets of which one is known to have been said."""

CLEAR = 30.0
"""A reading that is so much likelier than the next (a natural logarithm) needs no more."""


SHARP_AT_HALF, SHARP_SLOPE = 0.72, 30.0
"""Dictation always finds words that fit the sounds that the network believes in. Where it is not
sure of the sounds themselves, as in much noise and in people's voices, the words are not to be
believed. Of sixty synthetic sentences each, all but two were sharper than 0.78 (clean), 0.74
(telephone), 0.76 (Opus), 0.62 (speakers outside) and 0.54 (10 dB of noise); eight recordings of a
person lay between 0.64 and 0.84."""


CONTRADICTED, CLEARLY = -1.3, 0.8
"""A word that lies so far from the free path, a frame, where the network is so sure of what it
hears, was not said: the more phrases there are, the more of them are one word away from what was
said. Of 319 recordings of people that were correctly accepted, three have such a word."""

UNLIKELY = 0.5
"""What a phrase with such a word keeps of its confidence."""


@dataclass(frozen=True)
class Sureness:
    """What the network believes of a stretch, frame by frame.

    Attributes:
        sounding: frames in which it hears a phoneme.
        sharp: the mean probability of what it hears there, 0 to 1.
        free: the score of the best path of any sounds, priced as in the search.
    """

    sounding: int
    sharp: float
    free: float

    @classmethod
    def of(cls, logs: Matrix) -> Sureness:
        tops = logs.max(axis=1)
        voiced = logs.argmax(axis=1) != BLANK
        sharp = float(np.exp(tops[voiced]).mean()) if voiced.any() else 0.0
        return cls(int(voiced.sum()), sharp, float(priced(logs).max(axis=1).sum()))


def believed(logs: Matrix) -> float:
    """0 to 1: the confidence of a stretch of free dictation."""
    sharp = Sureness.of(logs).sharp
    return 1.0 / (1.0 + math.exp(-SHARP_SLOPE * (sharp - SHARP_AT_HALF)))


def fit(best: Reading, second: Reading | None, worst: float, logs: Matrix) -> Weights:
    """Measures of a closed reading: distance from the free path for each sounding frame, that of
    its worst word, how much likelier than the next reading, sharpness, how much sounds, and the
    first and the third together: where nothing fits well, as in people's voices, being likelier
    than the next tells something else than where all fits.

    Args:
        worst: the first measure of `word_fit`, of the word in which it is least. "A table for five"
            fits "a table for four" well, but for one word.
    """
    sure = Sureness.of(logs)
    frames = max(1, sure.sounding)
    margin = (best.score - sure.free) / frames
    gap = (CLEAR if second is None else min(CLEAR, best.score - second.score)) / 10
    return margin, worst, gap, sure.sharp - 0.9, math.log(frames / 10), -margin * gap


def word_fit(score: float, span: Matrix, symbols: int) -> Weights:
    """Measures of a word: distance from the free path a frame, sharpness, how many symbols a frame,
    and how long it is."""
    sure = Sureness.of(span)
    margin = (score - sure.free) / max(1, len(span))
    return margin, sure.sharp - 0.9, symbols / max(1, len(span)), math.log(len(span) / 8)


def contradicted(measures: Weights) -> bool:
    """Whether another word than this was clearly said, by the measures of `word_fit`: where the
    network is sure of the sounds, and they are others."""
    return measures[0] <= CONTRADICTED and measures[1] + 0.9 >= CLEARLY


def chance(weights: Weights, measures: Weights) -> float:
    """0 to 1, to three digits."""
    total = weights[0] + sum(w * m for w, m in zip(weights[1:], measures, strict=True))
    return round(1.0 / (1.0 + math.exp(-max(-30.0, min(30.0, total)))), 3)
