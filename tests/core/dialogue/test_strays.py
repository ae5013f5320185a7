"""Examples that are nearer to another route, as the matcher itself judges them one by one."""

import unittest

from bench.large_assistants import alike, apart
from fond_echo.core.dialogue.examples import reader_of
from fond_echo.core.dialogue.matching import ExampleMatcher
from fond_echo.core.dialogue.strays import AHEAD, LEAST, strays
from fond_echo.core.language.registry import language

ENGLISH = language()


def judged(routes):
    """(place, the other route) of each example that the matcher gives another route."""
    read = reader_of(ENGLISH)
    named = {str(number): [(text, read.spoken(text)) for text in texts]
             for number, texts in enumerate(routes)}  # fmt: skip
    matcher = ExampleMatcher(named, ENGLISH)
    at = [(number, text) for number, texts in enumerate(routes) for text in texts]
    for place, (number, text) in enumerate(at):
        found, _ = matcher.compared(read.spoken(text), without=place)
        own = next((each.score for each in found if each.route == str(number)), 0.0)
        other = next((each for each in found if each.route != str(number)), None)
        if other and other.score > max(LEAST, own + AHEAD):
            yield place, other.route, other.score


def found(routes):
    read = reader_of(ENGLISH).read
    at = [number for number, texts in enumerate(routes) for _ in texts]
    examples = [read(text) for texts in routes for text in texts]
    for each in strays(examples, at, ENGLISH.wording):
        yield each.place, str(at[each.nearest]), each.score


class Strays(unittest.TestCase):
    def test_as_the_matcher_says(self):
        few = [["How much is a ticket?", "What does it cost?"],
               ["Where is the boat?", "What does a ticket to Pell cost?"], ["Ten past four"]]  # fmt: skip
        for routes in (few, alike(90, examples=4), alike(120, seed=9), apart(30)):
            expected = list(judged(routes))
            given = list(found(routes))
            self.assertEqual([place for place, *_ in given], [place for place, *_ in expected])
            for (_, route, score), (_, other, best) in zip(given, expected, strict=True):
                self.assertAlmostEqual(score, best, places=3)
                if route != other:
                    self.assertAlmostEqual(score, best, places=4, msg="two are as near")
        self.assertTrue(list(found(few)), "one is nearer to the fares")

    def test_nothing_to_judge(self):
        self.assertEqual(strays([], [], ENGLISH.wording), [])
        self.assertEqual(list(found([["Boats"]])), [])
