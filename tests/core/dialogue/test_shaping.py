"""A written reply as it is spoken, shortened and numbered; pages in pieces; figures as typed."""

import unittest

from fond_echo.core.dialogue.documents import MAX_PASSAGE, Documents, passages_of
from fond_echo.core.dialogue.shaping import first_sentences, numbered, speakable, summary
from fond_echo.core.dialogue.typed import typed_digits, typed_time
from fond_echo.core.language.en import LANGUAGE as ENGLISH

TABLE = """\
| boat | leaves |
|------|:------:|
| Gull | 16:10  |
| Tern |        |
"""


class Spoken(unittest.TestCase):
    def check(self, cases):
        for written, said in cases.items():
            with self.subTest(written):
                self.assertEqual(speakable(written), said)

    def test_marks_are_gone(self):
        self.check({
            "**Pay** at the _quay_, `now`!": "Pay at the quay, now!",
            "~~Four~~ __five__ pounds": "Four five pounds",
            "2 * 3 * 4": "2 * 3 * 4",
            "snake_case stays": "snake_case stays",
        })  # fmt: skip

    def test_links_keep_their_words(self):
        self.check({
            "See [the fares](https://harbour.example/f).": "See the fares.",
            "![a boat](boat.png) sails": "a boat sails",
            "Look at https://harbour.example/x now": "Look at now",
            "Look at <https://harbour.example/x>": "Look at",
        })  # fmt: skip

    def test_lists_and_headings_are_sentences(self):
        self.check({
            "# Fares\n\n- adults four pounds\n- children free!\n": "Fares. adults four pounds. children free!",
            "1. First\n2) Second:": "First. Second:",
            "one\n---\ntwo": "one two",
        })  # fmt: skip

    def test_a_table_says_its_columns_with_each_value(self):
        self.assertEqual(speakable(TABLE), "boat Gull, leaves 16:10. boat Tern.")
        self.assertEqual(speakable("| lone |"), "")

    def test_nothing_is_nothing(self):
        self.check({"": "", "\n \n": "", "---": "", "**": ""})


class Shorter(unittest.TestCase):
    TEXT = (
        "The boat to Pell leaves at four. It is raining. Tickets for the boat are sold on the quay. "
        "The boat to Pell takes dogs."
    )

    def test_the_first_sentences(self):
        self.assertEqual(first_sentences("One. Two? Three!", 2, ENGLISH), "One. Two?")
        self.assertEqual(first_sentences("One", 3, ENGLISH), "One")
        self.assertEqual(
            first_sentences("<speak>One. Two.</speak>", 1, ENGLISH), "<speak>One. Two.</speak>"
        )

    def test_a_summary_keeps_what_the_text_comes_back_to_in_its_order(self):
        short = summary(self.TEXT, 2, ENGLISH)
        self.assertTrue(short.startswith("The boat to Pell leaves at four."))
        self.assertNotIn("raining", short)
        self.assertEqual(summary(self.TEXT, 4, ENGLISH), self.TEXT)
        self.assertEqual(summary("<speak>A. B. C.</speak>", 1, ENGLISH), "<speak>A. B. C.</speak>")

    def test_choices_as_a_list(self):
        self.assertEqual(numbered("Which?", ["Pell", "Marrow"]), "Which?\n\n1. Pell\n2. Marrow")
        self.assertEqual(numbered("", ["Pell"]), "1. Pell")
        self.assertEqual(numbered("Which?", []), "Which?")


class Pieces(unittest.TestCase):
    PAGE = (
        "# Boats\n\nBoats sail daily.\n\n## Dogs\n\nDogs travel free.\n\n### On deck\n\nOn a lead.\n\n"
        "## Cars\n\nNo cars.\n"
    )

    def test_each_paragraph_stands_below_its_headings(self):
        found = [
            (each.heading, each.text)
            for each in passages_of("book/on-board.md", self.PAGE, ENGLISH)
        ]
        self.assertEqual(
            found,
            [("Boats", "Boats sail daily."), ("Dogs", "Dogs travel free."),
             ("Dogs: On deck", "On a lead."), ("Cars", "No cars.")],
        )  # fmt: skip
        source = passages_of("book/on-board.md", self.PAGE, ENGLISH)[2].source
        self.assertEqual(source, "on board, Dogs: On deck")
        self.assertEqual(passages_of("a.md", "Text.", ENGLISH)[0].source, "a")

    def test_a_long_paragraph_is_cut_at_sentences_and_a_table_is_not(self):
        sentence = "The boat leaves from the quay at four and is back at six. "
        pieces = passages_of("a.md", sentence * 40, ENGLISH)
        self.assertGreater(len(pieces), 1)
        self.assertTrue(
            all(len(each.text) <= MAX_PASSAGE and each.text[-1] == "." for each in pieces)
        )
        self.assertEqual("".join(each.text + " " for each in pieces), sentence * 40)
        self.assertEqual(len(passages_of("a.md", "| a | b |\n" * 200, ENGLISH)), 1)

    def test_the_best_or_none(self):
        pages = Documents({"on-board.md": self.PAGE})
        self.assertEqual(pages.best("Can I bring my dog?").passage.heading, "Dogs")
        self.assertIsNone(pages.best("Who was the first king?"))
        self.assertIsNone(pages.best(""))
        self.assertIsNone(Documents({}).best("dogs"))


class Figures(unittest.TestCase):
    def test_a_time_that_is_once_a_day(self):
        for text, time in (
            ("09:30", "09:30"), ("at 16.10 please", "16:10"), ("0:05", "00:05"), ("1600 h", "16:00"),
            ("0930hrs", "09:30"), ("9:30", None), ("12:15", None), ("16:10 pm", None), ("16:10:30", None),
            ("09:30 or 16:10", None), ("1600", None), ("24:00", None), ("", None),
        ):  # fmt: skip
            self.assertEqual(typed_time(text), time, text)

    def test_digits_and_the_signs_between_them(self):
        for text, digits in (
            ("214", "214"), (" 12 34-56 ", "123456"), ("(01632) 960-123", "01632960123"),
            ("+44 1632/960123.", "441632960123"), ("214 please", None), ("-3", None), ("", None),
            ("+", None),
        ):  # fmt: skip
            self.assertEqual(typed_digits(text), digits, text)


if __name__ == "__main__":
    unittest.main()
