"""How like its examples an utterance is: meaning, letters, sound, kinds of values."""

import unittest

from fond_echo.core.dialogue.kinds import KindMarker
from fond_echo.core.dialogue.matching import ExampleMatcher, Match, likeness
from fond_echo.core.dialogue.routing import Router
from fond_echo.core.language.en.spoken import spoken_tokens
from fond_echo.core.language.en.wording import common, concept, concepts, stem
from fond_echo.core.language.registry import language as language_of
from fond_echo.demo.world import files_of
from fond_echo.documents.reading import read_assistant

EXAMPLES = {
    "sailing": ("When is the next boat to Brannick?", "When is the next boat to Pell?"),
    "fares": ("How much is a ticket?", "What does it cost to cross?"),
    "book": ("Book a place for ten past four", "Book a place for tomorrow"),
    "nothing": (),
}


def matcher():
    return ExampleMatcher(
        {name: [(text, spoken_tokens(text)) for text in texts] for name, texts in EXAMPLES.items()}
    )


class Matching(unittest.TestCase):
    def best(self, text, **options):
        found, _ = matcher().compared(spoken_tokens(text), **options)
        best = found[0] if found else Match("", 0.0, "", ())
        return best.route, best, found

    def test_the_example_itself_and_the_same_in_other_words(self):
        for text, name, least in (
            ("when is the next boat to pell", "sailing", 0.97),
            ("when's the following ferry for Pell", "sailing", 0.6),
            ("what do tickets cost", "fares", 0.45),
            ("how expensive is the pass", "fares", 0.45),
            ("reserve a place for half past six", "book", 0.7),
            ("book a place on Friday", "book", 0.7),
        ):
            found, match, _ = self.best(text)
            with self.subTest(text=text):
                self.assertEqual(found, name)
                self.assertGreaterEqual(match.score, least)

    def test_a_word_of_the_language_that_was_typed_is_no_other(self):
        tokens = spoken_tokens("a cricket for my brother")
        made = matcher()
        typed, heard = (made.compared(tokens, heard=each) for each in (False, True))
        shared = [
            {word for match in matches if match.route == "fares" for word in match.shared}
            for matches, _ in (typed, heard)
        ]
        self.assertNotIn("cricket≈ticket", shared[0])
        self.assertIn("cricket≈ticket", shared[1])
        self.assertGreater(typed[1], heard[1], "and so more of it is unknown")

    def test_what_no_example_knows(self):
        made = matcher()
        for text, least, most in (
            ("when is the next boat to pell", 0.0, 0.0),
            ("when is the next boat to lisbon", 0.2, 0.6),
            ("elephants dream", 1.0, 1.0),
            ("", 1.0, 1.0),
        ):
            share = made.compared(spoken_tokens(text))[1]
            self.assertTrue(least <= share <= most, (text, share))

    def test_misspelled_and_misheard_words_count_in_part(self):
        _, right, _ = self.best("when is the next boat to brannick")
        for text in ("wen is the nekst bote to branick", "when is the next boat to branik"):
            name, match, _ = self.best(text)
            self.assertEqual(name, "sailing")
            self.assertLess(match.score, right.score)
            self.assertTrue(any("≈" in each for each in match.shared), match)

    def test_common_words_are_no_misspellings(self):
        self.assertTrue(common("where"))
        self.assertFalse(common("branick"))
        _, match, _ = self.best("where are you")
        self.assertLess(match.score, 0.3)

    def test_an_example_can_be_judged_without_itself(self):
        _, with_it, _ = self.best("When is the next boat to Brannick?")
        _, match, _ = self.best("When is the next boat to Brannick?", without=0)
        self.assertEqual(with_it.example, "When is the next boat to Brannick?")
        self.assertEqual(match.example, "When is the next boat to Pell?")
        self.assertLess(match.score, with_it.score)

    def test_nothing_in_common(self):
        for text in ("", "xyzzy", "the of and"):
            _, match, found = self.best(text)
            self.assertLess(match.score, 0.2, text)
            self.assertNotIn("nothing", [each.route for each in found])
        self.assertEqual(ExampleMatcher({}).compared(["boat"]), ([], 1.0))

    def test_words_that_differ_in_letters(self):
        self.assertEqual(likeness("boat", "boat"), 1.0)
        self.assertEqual(likeness("boat", "xyz"), 0.0)
        self.assertAlmostEqual(likeness("property", "propperty"), likeness("propperty", "property"))


class Asking(unittest.TestCase):
    def test_only_what_is_near_is_asked_about(self):
        files = files_of("harbour-desk")
        assistant = read_assistant(files)
        found = Router(assistant.router_routes(), assistant.rules).decide(
            "is it expensive to take my bike"
        )
        self.assertEqual(
            (found.route, found.requested), ("did-you-mean", ("book-bicycle", "fares"))
        )


class Wording(unittest.TestCase):
    def test_stems(self):
        for word, found in (
            ("boats", "boat"), ("carries", "carry"), ("stopped", "stop"), ("running", "run"),
            ("seasickness", "seasick"), ("glass", "glass"), ("this", "this"), ("bus", "bus"), ("is", "is"),
            ("umbrella's", "umbrella"), ("missed", "miss"),
        ):  # fmt: skip
            self.assertEqual(stem(word), found)

    def test_concepts(self):
        self.assertEqual(concept("ferries"), concept("ship"))
        self.assertEqual(concepts("how much is a bike".split()), ["price", "is", "a", "bicycle"])
        self.assertEqual(concepts("what time do you set off".split())[-1], "leave")

    def test_kinds(self):
        for text, marked in (
            ("at ten past four tomorrow", ["at", "‹time›", "‹date›"]),
            ("two bicycles", ["‹number›", "bicycles"]),
            ("in half an hour", ["in", "‹duration›"]),
            ("for four pounds fifty", ["for", "‹currency›"]),
            ("on the fifth of May", ["on", "the", "‹date›"]),
            ("the next boat", ["the", "next", "boat"]),
        ):
            self.assertEqual(KindMarker(language_of()).marked(spoken_tokens(text)), marked)
