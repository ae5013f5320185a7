"""Recognizers ranked on the same recordings."""

import unittest

from fond_echo.core.recognition.ranking import Heard, ranked, standing
from fond_echo.core.recognition.scoring import edits


def heard(file, said, found, seconds=1.0, why=""):
    words = said.split()
    return Heard(file, None if why else edits(words, found.split()), len(words), seconds, 0.01, why)


class Ranking(unittest.TestCase):
    def test_rates_kinds_waits_and_the_worst(self):
        found = standing("a", [
            heard("1", "the boat is late", "the boat is late", 0.1),
            heard("2", "the boat is late", "a boat late now", 0.3),
            heard("3", "go home", "", 0.2, why="it broke"),
        ])  # fmt: skip
        self.assertEqual((found.files, found.failed), (3, 1))
        self.assertAlmostEqual(found.rate, (3 + 2) / 10)
        self.assertEqual((found.kinds["missing"], found.kinds["other"]), (2, 3))
        self.assertEqual(found.worst[0], "3")
        self.assertAlmostEqual(found.wait, 0.2)
        self.assertAlmostEqual(found.cost, 0.03)
        self.assertLessEqual(found.low, found.rate)
        self.assertGreaterEqual(found.high, found.rate)

    def test_more_recordings_make_the_interval_narrower(self):
        mixed = [heard("1", "a b c d", "a b c d"), heard("2", "a b c d", "a x c d")]
        few, many = standing("few", mixed * 4), standing("many", mixed * 60)
        self.assertLess(many.high - many.low, few.high - few.low)
        same = standing("same", [heard("1", "a b", "a x")] * 30)
        self.assertEqual((same.low, same.high), (0.5, 0.5))

    def test_the_best_is_first_and_nothing_is_no_standing(self):
        good, bad = (
            standing("good", [heard("1", "a b", "a b")]),
            standing("bad", [heard("1", "a b", "x y")]),
        )
        self.assertEqual([each.name for each in ranked([bad, good])], ["good", "bad"])
        with self.assertRaises(ValueError):
            standing("none", [])


if __name__ == "__main__":
    unittest.main()
