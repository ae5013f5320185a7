"""Sentences and paragraphs of long dictation."""

import doctest
import unittest

from fond_echo.core.language import paragraphs as module
from fond_echo.core.language.paragraphs import Stretch, paragraphs
from fond_echo.core.language.registry import language

GOES_ON = language("en").wording.GOES_ON.__contains__


def said(*parts):
    """Stretches of a second each, with the pauses between them."""
    found, at = [], 0.0
    for text, pause in parts:
        found.append(Stretch(text, at, at + 1.0))
        at += 1.0 + pause
    return found


class Paragraphs(unittest.TestCase):
    def made(self, *parts):
        return [each.sentences for each in paragraphs(said(*parts), GOES_ON)]

    def test_a_pause_ends_a_sentence_unless_its_last_word_goes_on(self):
        self.assertEqual(
            self.made(("We left at ten", 0.6), ("The wind was from the.", 0.6), ("North.", 0.6)),
            [("We left at ten.", "The wind was from the North.")],
        )
        # A long pause ends it whatever stands there.
        self.assertEqual(self.made(("We left and", 1.0), ("came back", 0.6)),
                         [("We left and.", "Came back.")])  # fmt: skip

    def test_a_long_pause_ends_a_paragraph_and_none_goes_on_for_ever(self):
        self.assertEqual(len(self.made(("One.", 2.5), ("Two.", 0.6))), 2)
        many = self.made(*[(f"Sentence {n}.", 0.6) for n in range(25)])
        self.assertEqual([len(each) for each in many], [10, 10, 5])
        shorter = self.made(*[(f"Sentence {n}.", 1.3) for n in range(9)])
        self.assertEqual([len(each) for each in shorter], [4, 4, 1])

    def test_nothing_is_lost_and_times_are_kept(self):
        (found,) = paragraphs(said(("a b", 0.6), ("c the", 0.6), ("d", 0.6)), GOES_ON)
        self.assertEqual(found.text, "A b. C the d.")
        self.assertEqual(found.starts, (0.0, 1.6))
        self.assertEqual(paragraphs([], GOES_ON), [])

    def test_examples(self):
        self.assertEqual(doctest.testmod(module).failed, 0)
