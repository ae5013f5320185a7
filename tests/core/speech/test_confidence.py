"""How sure to be: more of what speaks for a reading makes it surer, and nothing makes it certain."""

import math
import unittest

import numpy as np

from fond_echo.core.recognition.confidence import (
    CLOSED,
    WORD,
    Sureness,
    believed,
    chance,
    fit,
    word_fit,
)
from fond_echo.core.recognition.grammar_decoding import BLANK_PENALTY, FoundWord, Reading, priced
from fond_echo.core.recognition.symbols import BLANK


def heard(symbols, sharp=0.9):
    """Log probabilities in which each frame believes in one symbol so much."""
    logs = np.full((len(symbols), 40), math.log((1 - sharp) / 39), np.float32)
    logs[np.arange(len(symbols)), symbols] = math.log(sharp)
    return logs


def reading(score, *words):
    return Reading(tuple(FoundWord(word, k, k + 1) for k, word in enumerate(words)), score)


class Believing(unittest.TestCase):
    def test_what_the_network_believes(self):
        sure = Sureness.of(heard([0, 5, 5, 0, 7]))
        self.assertEqual(sure.sounding, 3)
        self.assertAlmostEqual(sure.sharp, 0.9, places=5)
        self.assertEqual(Sureness.of(heard([0, 0])).sharp, 0.0)

    def test_the_free_path_is_priced_as_in_the_search(self):
        logs = heard([0, 5])
        free = Sureness.of(logs).free
        self.assertAlmostEqual(free, float(priced(logs).max(axis=1).sum()), places=4)
        self.assertAlmostEqual(priced(logs)[0, BLANK], logs[0, BLANK] - BLANK_PENALTY, places=5)
        np.testing.assert_array_equal(priced(logs)[:, 1:], logs[:, 1:])

    def test_words_in_sounds_that_are_doubtful_are_not_believed(self):
        sharpness = [believed(heard([4, 4, 9, 9], sharp)) for sharp in (0.4, 0.6, 0.72, 0.9, 0.97)]
        self.assertEqual(sharpness, sorted(sharpness))
        self.assertLess(sharpness[0], 0.01)
        self.assertGreater(sharpness[-1], 0.95)

    def test_closed_sets(self):
        logs = heard([3, 0, 4, 0, 5, 0])
        free = Sureness.of(logs).free
        near, far = reading(free - 0.5, "yes"), reading(free - 12.0, "yes")
        other = reading(free - 9.0, "no")
        self.assertGreater(chance(CLOSED, fit(near, other, -0.2, logs)),
                           chance(CLOSED, fit(far, other, -0.2, logs)))  # fmt: skip
        rival = reading(free - 0.6, "no")
        self.assertGreater(chance(CLOSED, fit(near, other, -0.2, logs)),
                           chance(CLOSED, fit(near, rival, -0.2, logs)))  # fmt: skip
        self.assertGreaterEqual(chance(CLOSED, fit(near, other, -0.2, logs)),
                                chance(CLOSED, fit(near, other, -4.0, logs)))  # fmt: skip
        alone, wide = fit(near, None, -0.2, logs), fit(near, reading(-1e9, "no"), -0.2, logs)
        self.assertEqual(alone, wide)

    def test_words(self):
        span = heard([3, 3, 0, 8])
        free = Sureness.of(span).free
        fits, misfits = word_fit(free, span, 2), word_fit(free - 20, span, 2)
        self.assertGreater(chance(WORD, fits), chance(WORD, misfits))
        self.assertAlmostEqual(fits[0], 0.0, places=5)

    def test_a_chance_is_one_whatever_comes(self):
        for weights in (CLOSED, WORD):
            for value in (-1e6, -1.0, 0.0, 1.0, 1e6):
                found = chance(weights, (value,) * (len(weights) - 1))
                self.assertGreaterEqual(found, 0.0)
                self.assertLessEqual(found, 1.0)


if __name__ == "__main__":
    unittest.main()
