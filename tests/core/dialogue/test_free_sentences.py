"""Sentences of an answer that is still being written."""

import unittest

from fond_echo.core.dialogue.free import Sentences
from fond_echo.core.language.registry import language

TEXT = "The 4.30 p.m. boat to Pell is full. Dr. Aldous knows more!\nAsk at berth No. 4"


class Cutting(unittest.TestCase):
    def cut(self, text, most=1_000, step=3):
        sentences = Sentences(language("en").writing.sentences_of, most)
        found = []
        for at in range(0, len(text), step):
            found += sentences.add(text[at : at + step])
        return found, sentences

    def test_a_sentence_is_whole_when_another_has_begun(self):
        for step in (1, 3, 7, 500):
            with self.subTest(step=step):
                found, sentences = self.cut(TEXT, step=step)
                self.assertEqual(
                    found, ["The 4.30 p.m. boat to Pell is full.", "Dr. Aldous knows more!"]
                )
                self.assertEqual(sentences.given, TEXT[: TEXT.index("\n")])

    def test_no_more_than_may_be_said(self):
        found, sentences = self.cut(TEXT, most=40)
        self.assertEqual(found, ["The 4.30 p.m. boat to Pell is full."])
        self.assertEqual(sentences.given, found[0])


if __name__ == "__main__":
    unittest.main()
