"""What answers are worth, from words alone."""

from __future__ import annotations

import unittest

from fond_echo.core.dialogue.verdict import Verdict, verdict
from fond_echo.core.language.registry import language

BOATS = (
    "The next boat to Pell leaves at 16:10 from pier two and arrives at 16:45. Dogs travel free on a"
    " lead. A place for a bicycle costs 2.50 pounds."
)


class Verdicts(unittest.TestCase):
    def judged(
        self, question: str, answer: str, sources: tuple[str, ...] = (BOATS,), **more: tuple[str]
    ) -> Verdict:
        return verdict(question, answer, sources, language(), **more)

    def test_good_answers_hold(self) -> None:
        for question, answer in (
            ("when does the boat to Pell leave", "At ten past four, from pier two."),
            ("when are we there", "The boat arrives at quarter to five."),
            ("how long does it take", "It takes 35 minutes."),
            ("what do three bicycles cost", "Each place is 2.50, so three come to 7.50."),
            ("may my dog come", "Yes."),
            ("and what about my bike", "A bicycle costs 2.50."),
        ):
            self.assertEqual(self.judged(question, answer).kind, "answers", answer)

    def test_numbers_and_names_need_a_source(self) -> None:
        for answer, what in (
            ("It leaves at 17:20.", "20"),
            ("The boat sails from pier nine.", "9"),
            ("The boat to Pell sails with Captain Merrick.", "Captain"),
        ):
            found = self.judged("when does the boat to Pell leave", answer)
            self.assertEqual(found.kind, "unsupported", answer)
            self.assertIn(what, found.reason)
            self.assertEqual(found.sentence, answer)

    def test_a_number_that_the_person_named_is_known(self) -> None:
        found = self.judged("is there a boat at 17:20", "No, there is no boat at 17:20 to Pell.")
        self.assertEqual(found.kind, "answers")

    def test_what_was_left_to_be_filled_in_is_seen_without_any_source(self) -> None:
        for left in (
            "[PIER]",
            "{{ pier }}",
            "<pier number>",
            "$PIER",
            "___",
            "{pier}",
            "XXX",
            "TBD",
        ):
            answer = f"Gladly. It leaves from {left}."
            found = self.judged("which pier", answer, ())
            self.assertEqual((found.kind, left in found.reason), ("unfilled", True), left)
            self.assertTrue(found.sentence.startswith("It leaves"), found.sentence)
        for fine in ("See [the map](https://tern.test/map).", "Press [1] or [2].", "It is <3 km>."):
            self.assertNotEqual(self.judged("which pier", fine, ()).kind, "unfilled", fine)

    def test_going_around_the_question_and_another_subject(self) -> None:
        question = "when does the boat to Pell leave"
        self.assertEqual(self.judged(question, "As an assistant I can't help.").kind, "evades")
        found = self.judged(question, "Our benches were painted last year.")
        self.assertEqual(found.kind, "another-subject")
        self.assertFalse(found.holds)

    def test_without_a_source_nothing_is_made_of_what_an_engine_knows(self) -> None:
        found = self.judged("what is the capital of Peru", "Lima, since 1535.", ())
        self.assertEqual(found.kind, "answers")

    def test_what_was_said_before_counts_as_known(self) -> None:
        answer = "As I said, with Captain Merrick."
        found = self.judged("who sails", answer, earlier=("Captain Merrick sails the boat",))
        self.assertNotEqual(found.kind, "unsupported")

    def test_long_texts_are_bounded(self) -> None:
        found = self.judged("when " * 1_000, "pier two " * 50_000, ("boat 1 2 3. " * 20_000,))
        self.assertIn(found.kind, ("answers", "another-subject", "unsupported"))
