"""What people said that no route was for."""

import unittest

from fond_echo.core.dialogue.gaps import Missed, gaps
from fond_echo.core.language.registry import language

SAID = [
    Missed("t5", "Can I hire a canoe?", "book-bicycle", 0.31),
    Missed("t4", "How do I hire a canoe", "fares", 0.2, sound=True),
    Missed("t3", "um, please"),
    Missed("t2", "Is there a bank on Pell?", "next-sailing", 0.4),
    Missed("t1", "I would like to hire a canoe tomorrow", "book-bicycle", 0.35),
]


class Gaps(unittest.TestCase):
    def test_wordings_of_one_thing_are_one_gap(self):
        canoe, bank = gaps(SAID, language("en"))
        self.assertEqual(canoe.turns, ("t5", "t4", "t1"))
        self.assertEqual(
            (canoe.nearest, canoe.confidence, canoe.heard), ("book-bicycle", 0.35, "t4")
        )
        self.assertIn("canoe", canoe.example)
        self.assertEqual((bank.count, bank.heard), (1, ""))

    def test_nothing(self):
        self.assertEqual(gaps([], language("en")), [])


if __name__ == "__main__":
    unittest.main()
