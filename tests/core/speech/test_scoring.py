"""How right a transcript is, and how far to trust what was counted."""

import unittest

from fond_echo.core.recognition.scoring import (
    calibration_error,
    edits,
    reliability,
    wilson,
)


class Alignment(unittest.TestCase):
    def test_every_kind_of_error(self):
        found = edits("the boat is late now".split(), "a boat late now then".split())
        self.assertEqual(
            [(each.step, each.said, each.heard) for each in found.steps],
            [("other", "the", "a"), ("same", "boat", "boat"), ("missing", "is", ""),
             ("same", "late", "late"), ("same", "now", "now"), ("extra", "", "then")],
        )  # fmt: skip
        self.assertEqual((found.errors, found.length), (3, 5))
        self.assertAlmostEqual(found.rate, 0.6)

    def test_characters_and_edges(self):
        self.assertEqual(edits("boat", "goat").errors, 1)
        self.assertEqual(edits([], []).rate, 0.0)
        self.assertEqual(edits([], ["a"]).rate, 1.0)
        self.assertEqual(edits(["a"], []).steps[0].step, "missing")

    def test_the_shortest_of_many(self):
        said, heard = "a b c d e f".split(), "b c d x e f g".split()
        self.assertEqual(edits(said, heard).errors, 3)


class Shares(unittest.TestCase):
    def test_intervals(self):
        found = wilson(99, 100)
        self.assertAlmostEqual(found.low, 0.9455, places=3)
        self.assertAlmostEqual(found.high, 0.9982, places=3)
        self.assertEqual(str(wilson(1, 2)), "50.0% (9.5% to 90.5%)")
        self.assertEqual((wilson(0, 0).low, wilson(0, 0).high), (0.0, 1.0))
        self.assertEqual(wilson(10, 10).high, 1.0)

    def test_confidence_beside_the_truth(self):
        bins = reliability([0.95, 0.95, 0.15, 0.15, 1.0], [True, False, False, False, True])
        self.assertEqual(
            [(each.count, round(each.true, 2)) for each in bins], [(2, 0.0), (3, 0.67)]
        )
        self.assertAlmostEqual(calibration_error(bins), (2 * 0.15 + 3 * (2.9 / 3 - 2 / 3)) / 5)
