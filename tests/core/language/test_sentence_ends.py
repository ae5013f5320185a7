"""Where sentences end, and where they do not."""

import doctest
import unittest

from fond_echo.core.dialogue.shaping import first_sentences
from fond_echo.core.language.en import LANGUAGE as ENGLISH
from fond_echo.core.language.en import sentence_ends
from fond_echo.core.language.en.sentence_ends import split

ONE = (
    "The boat leaves at 4 p.m. from the north pier.",
    "It is berth No. 4 today.",
    "Ask Dr. Quennell about it.",
    "The U.S. mail is late.",
    "Bring food, e.g. bread, and water.",
    "A crossing is 4.50 pounds.",
    "J. Quennell will answer.",
    "See fig. 3 and pp. 4 to 6.",
    "St. Ossel is small.",
    "He said hello. then he left",
    "",
)
TWO = (
    ("It leaves at 4 p.m. The boat is small.", ["It leaves at 4 p.m.", "The boat is small."]),
    ("Is it late? No. It is on time.", ["Is it late?", "No.", "It is on time."]),
    ("Go to berth B. It is near.", ["Go to berth B.", "It is near."]),
    ("“Come in.” She did.", ["“Come in.”", "She did."]),
    ("Wait! (It is late.) Go on.", ["Wait!", "(It is late.)", "Go on."]),
    ("Bring bread, water, etc. The boat has none.", ["Bring bread, water, etc.", "The boat has none."]),
    ("It costs 4. 5 is more.", ["It costs 4.", "5 is more."]),
    ("So it was… Then not.", ["So it was…", "Then not."]),
    ("It is I. You know me.", ["It is I.", "You know me."]),
)  # fmt: skip


class Ends(unittest.TestCase):
    def test_one_sentence(self):
        for text in ONE:
            with self.subTest(text):
                self.assertEqual(split(text), [text] if text else [])

    def test_several(self):
        for text, wanted in TWO:
            with self.subTest(text):
                self.assertEqual(split(text), wanted)

    def test_nothing_is_lost(self):
        for text in (*ONE, *(text for text, _ in TWO), "... . .. a. b. C. D. ", ".\n.\n."):
            self.assertEqual("".join("".join(split(text)).split()), "".join(text.split()))

    def test_what_is_spoken_in_short_keeps_the_berth(self):
        text = "The guillemot leaves from berth No. 4 at 6 p.m. today. Be there early. Bring food."
        self.assertEqual(
            first_sentences(text, 1, ENGLISH),
            "The guillemot leaves from berth No. 4 at 6 p.m. today.",
        )

    def test_the_examples(self):
        self.assertEqual(doctest.testmod(sentence_ends).failed, 0)


if __name__ == "__main__":
    unittest.main()
