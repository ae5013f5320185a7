"""Sentences of an answer that is still being written."""

import unittest

from fond_echo.core.dialogue.free import BEYOND, OFTEN, Sentences
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

    def test_a_long_one_is_given_too(self):
        long = "The boat to Pell " + "and to Brannick " * 60 + "is late."
        found, _ = self.cut(f"{long} Wait here. So it is. {'No more. ' * 40}", most=9_000, step=1)
        self.assertEqual(found[:3], [long, "Wait here.", "So it is."])

    def test_the_work_grows_as_the_text_does(self):
        cut, looked_at = language("en").writing.sentences_of, []

        def split(text):
            looked_at.append(len(text))
            return cut(text)

        for most, pieces in ((100_000, 40_000), (4_000, 400_000)):
            looked_at.clear()
            sentences = Sentences(split, most)
            for _ in range(pieces):
                self.assertEqual(sentences.add("so "), [])
            self.assertLess(sum(looked_at), OFTEN * OFTEN + 8 * min(3 * pieces, most + BEYOND))
            self.assertLessEqual(len(sentences._text), most + BEYOND)

    def test_no_more_than_may_be_said(self):
        found, sentences = self.cut(TEXT, most=40)
        self.assertEqual(found, ["The 4.30 p.m. boat to Pell is full."])
        self.assertEqual(sentences.given, found[0])


if __name__ == "__main__":
    unittest.main()
