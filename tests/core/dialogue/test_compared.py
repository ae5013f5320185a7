"""Answers of then and now held side by side: what is only said otherwise, and what is another."""

import unittest

from fond_echo.core.dialogue.compared import MAX_SENTENCES, compared, says_the_same
from fond_echo.core.language.registry import language

ENGLISH = language("en")
FERRY = "The ferry leaves at ten. Bring your ticket."


class Compared(unittest.TestCase):
    def test_other_words_for_the_same(self):
        for before, after in (
            (FERRY, "Bring your ticket, please. The ferry leaves at 10."),
            ("High water at Pell is at 06:55.", "At Pell, high water comes at 06:55 today."),
            ("Sure! The kiosk sells tickets.", "Tickets are sold at the kiosk. Anything else?"),
            (FERRY, FERRY + " Happy to help!"),
            ("", ""),
        ):
            with self.subTest(after):
                self.assertTrue(says_the_same(compared(before, after, ENGLISH)))

    def test_what_is_said_otherwise_is_marked(self):
        for before, after, kind, marks in (
            (FERRY, "The ferry leaves at eleven. Bring your ticket.", "changed",
             ("the number 10 is gone", "the number 11 is new")),
            ("Dogs are allowed on board.", "Dogs are not allowed on board.", "changed",
             ("only one of them says that it is not so",)),
            ("Ask Captain Hale at the pier.", "Ask Captain Moss at the pier.", "changed",
             ("the name 'Hale' is gone", "the name 'Moss' is new")),
            (FERRY, FERRY + " The crossing takes 20 minutes.", "added", ("the number 20 is new",)),
            (FERRY, "The ferry leaves at ten.", "left-out", ()),
        ):  # fmt: skip
            with self.subTest(after):
                found = compared(before, after, ENGLISH)
                self.assertFalse(says_the_same(found))
                [other] = [each for each in found if each.kind not in ("same", "wording")]
                self.assertEqual((other.kind, other.marks), (kind, marks))

    def test_very_long_answers_are_held_against_each_other_in_bounded_work(self):
        long = " ".join(f"Boat {number} goes to the island." for number in range(3_000))
        found = compared(long, "And it comes back. " + long, ENGLISH)
        self.assertLessEqual(len(found), 2 * MAX_SENTENCES + 2)
        self.assertFalse(says_the_same(found))
