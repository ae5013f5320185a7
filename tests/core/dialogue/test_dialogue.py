import unittest

from fond_echo.core.dialogue.matching import likeness
from fond_echo.core.dialogue.outcomes import DID_YOU_MEAN, FALLBACK
from fond_echo.core.dialogue.routing import Route, Router
from fond_echo.core.dialogue.shaping import numbered, speakable, summary
from fond_echo.core.language.en import LANGUAGE as ENGLISH

ROUTES = (
    Route(
        "next-sailing",
        (
            "When is the next boat to Brannick?",
            "When is the next boat to Pell?",
            "When does the next boat leave?",
        ),
        "next",
    ),
    Route("fares", ("How much is a ticket?", "What does it cost to cross?"), "fares"),
    Route("lost", ("I lost something on the boat.", "Lost property")),
)


class Routing(unittest.TestCase):
    def setUp(self):
        self.router = Router(ROUTES)

    def test_examples_and_their_like(self):
        cases = {
            "When is the next boat to Brannick?": "next-sailing",
            "when's the next boat for pell": "next-sailing",
            "next boat to brannik please": "next-sailing",
            "how much does a ticket cost": "fares",
            "i have lost my umbrella on the boat": "lost",
            "lost propperty": "lost",
        }
        for text, route in cases.items():
            decision = self.router.decide(text)
            self.assertEqual((decision.route, decision.by), (route, "example"), decision)

    def test_what_is_about_something_else(self):
        for text in (
            "My sister plays the violin.",
            "What is the capital of France?",
            "",
            "🙂",
            "the",
        ):
            decision = self.router.decide(text)
            self.assertEqual(decision.route, FALLBACK, decision)
            self.assertTrue(decision.sure)

    def test_a_doubtful_transcript_that_fits_nothing_is_said_to_be_unsure(self):
        self.assertFalse(self.router.decide("eat to upper", heard_surely=False).sure)
        self.assertTrue(self.router.decide("lost property", heard_surely=False).sure)

    def test_two_routes_that_fit_alike_are_not_guessed_between(self):
        router = Router(
            (Route("a", ("book a place for friday",)), Route("b", ("book a place for monday",)))
        )
        decision = router.decide("book a place for tuesday")
        self.assertEqual((decision.route, decision.sure), (DID_YOU_MEAN, False))
        self.assertEqual(set(decision.requested), {"a", "b"})

    def test_commands(self):
        self.assertEqual(self.router.decide("Fares", command=True).by, "command")
        self.assertEqual(self.router.decide("fares").by, "example")

    def test_every_decision_explains_itself(self):
        decision = self.router.decide("how much is a ticket to pell")
        self.assertIn("How much is a ticket?", decision.because)
        self.assertLessEqual(
            {score.route for score in decision.scores}, {route.name for route in ROUTES}
        )
        self.assertEqual(decision.scores[0].route, decision.route)
        self.assertEqual(
            [score.score for score in decision.scores],
            sorted((score.score for score in decision.scores), reverse=True),
        )

    def test_no_routes_at_all(self):
        self.assertEqual(Router(()).decide("hello").route, FALLBACK)

    def test_what_can_be_asked(self):
        self.assertEqual(self.router.suggestions(2), [ROUTES[0].examples[0], ROUTES[1].examples[0]])


class Likeness(unittest.TestCase):
    def test_near_words(self):
        self.assertEqual(likeness("pell", "pell"), 1.0)
        self.assertGreater(likeness("brannick", "brannik"), 0.6)
        self.assertLess(likeness("pell", "ossel"), 0.4)


class Speakable(unittest.TestCase):
    def test_markup_links_lists_and_tables(self):
        cases = {
            "**Two** boats, see [the page](https://example.org/x).": "Two boats, see the page.",
            "Boats:\n- Petrel\n- Guillemot": "Boats: Petrel. Guillemot.",
            "| | adult | child |\n|---|---|---|\n| Pell | £4 | £2 |": "Pell, adult £4, child £2.",
            "# Fares\nSee https://example.org now": "Fares. See now",
            "snake_case and 2 * 3 stay": "snake_case and 2 * 3 stay",
            "": "",
        }
        for text, spoken in cases.items():
            self.assertEqual(speakable(text), spoken)

    def test_a_summary_keeps_what_the_text_comes_back_to(self):
        text = (
            "The ferry to Pell was late. It rained. The ferry waited for the mail boat, "
            "and the mail boat was late as well. Nobody minded! Tea was served."
        )
        self.assertEqual(
            summary(text, 2, ENGLISH),
            "The ferry to Pell was late. The ferry waited for the mail boat, and the mail boat "
            "was late as well.",
        )
        self.assertEqual(summary(text, 9, ENGLISH), text)
        self.assertEqual(summary("", 2, ENGLISH), "")
        marked = "<speak>One. Two. Three.</speak>"
        self.assertEqual(summary(marked, 1, ENGLISH), marked)

    def test_choices_as_a_list(self):
        self.assertEqual(numbered("Where to?", ["Pell", "Ossel"]), "Where to?\n\n1. Pell\n2. Ossel")
        self.assertEqual(numbered("Hello", []), "Hello")
