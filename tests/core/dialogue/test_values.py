"""What people type and say where a value is asked for, and how it is written down."""

import unittest
from datetime import datetime

from fond_echo.core.dialogue.slots import Slot, SlotMachine
from fond_echo.core.grammar.values import builtin_grammar
from fond_echo.core.language.numbers import (
    cardinal,
    digit_by_digit,
    digits,
    prefix_value,
    years_as_numbers,
)
from fond_echo.core.language.spoken import spoken_tokens
from fond_echo.core.language.written import written_text

NOW = datetime(2026, 11, 26, 9, 0)


def machine(*kinds):
    slots = [Slot(kind, f"builtin:{kind}") for kind in kinds]
    return SlotMachine(slots, builtin_grammar(), NOW, lambda *_: "")


def answered(kind, text):
    """The value that a text gives a slot that was asked for; None where it gives none."""
    asked = machine(kind).begin("route", []).open
    step = machine(kind).go_on(asked, spoken_tokens(text))
    return step.open.filled[kind].value if step.outcome == "ready" else None


class Typed(unittest.TestCase):
    def check(self, kind, cases):
        for text, value in cases.items():
            with self.subTest(text):
                self.assertEqual(answered(kind, text), value)

    def test_digits_are_those_that_were_typed(self):
        self.check("digits", {
            "7": "7", "42": "42", "214": "214", "0016": "0016", "12345": "12345", "1984": "1984",
            "2005": "2005", "1632960123": "1632960123", "214.": "214", "my code is 214 please": "214",
            "AB123": "123", "BREN": None, "twenty four": "24", "what code?": None,
        })  # fmt: skip

    def test_a_number_is_whole_or_none(self):
        self.check("number", {
            "7": 7, "214": 214, "12,345": 12_345, "1984": 1984, "2026": 2026, "-3": -3, "2.5": 2.5,
            "for 6 people": 6, "double seven three": None, "one six three": None, "0016": None,
            "1632960123": None,
        })  # fmt: skip

    def test_what_is_spelled_is_letters_however_it_is_typed(self):
        self.check("spelled", {
            "B R E N": "BREN", "bren": "BREN", "BREN": "BREN", "KS4L": "KS4L", "AB123": "AB123",
            "b for boat r": "BR", "42": "42", "214": "214", "what": None, "it is bren": None,
        })  # fmt: skip

    def test_no_word_gives_two_slots_a_value(self):
        step = machine("digits", "number").begin("route", spoken_tokens("the code is 214 for 3"))
        found = {name: each.value for name, each in step.open.filled.items()}
        self.assertEqual(found["digits"], "214")
        self.assertNotEqual(found.get("number"), 214)


class Heard(unittest.TestCase):
    def test_what_was_heard_gives_the_same_value_as_what_was_typed(self):
        for kind, said, value in (
            ("digits", "two one four", "214"),
            ("digits", "double seven three", "773"),
            ("digits", "oh one six three two nine six oh one two three", "01632960123"),
            ("digits", "four two", "42"),
            ("spelled", "b r e n", "BREN"),
            ("spelled", "k s four l", "KS4L"),
            ("number", "two hundred and fourteen", 214),
            ("number", "three point five", 3.5),
            ("number", "minus two", -2),
            ("money", "four pounds fifty", {"amount": 4.5, "currency": "GBP"}),
            ("time", "ten fifteen a m", "10:15"),
            ("time", "half past three p m", "15:30"),
            ("time", "twenty five past five p m", "17:25"),
            ("date", "the third of may", "2027-05-03"),
            ("date", "the fifth of june twenty twenty seven", "2027-06-05"),
        ):
            with self.subTest(said):
                self.assertEqual(answered(kind, written_text(said.split())), value)


class Numbers(unittest.TestCase):
    def test_the_longest_number_at_the_start(self):
        for text, found in (
            ("two hundred and fourteen boats", (214, 4)), ("two and a half", (2, 1)),
            ("twenty five six", (25, 2)), ("boats", None), ("", None), ("five six", (5, 1)),
        ):  # fmt: skip
            self.assertEqual(prefix_value(text.split()), found, text)

    def test_every_number_as_its_digits(self):
        for number in (0, 7, 42, 100, 214, 1_009, 12_345, 900_001, 999_999):
            tokens = cardinal(number)
            words = [word for word, *_ in digit_by_digit(tokens)]
            self.assertEqual(words, digits(str(number)))
        self.assertEqual(
            digit_by_digit("room two hundred and six please".split()),
            [("room", 0, 1), ("two", 1, 5), ("zero", 1, 5), ("six", 1, 5), ("please", 5, 6)],
        )

    def test_years(self):
        tokens = "in nineteen eighty four or twenty men".split()
        self.assertEqual(
            [word for word, *_ in years_as_numbers(tokens)],
            "in one thousand nine hundred and eighty four or twenty men".split(),
        )


CASES = {
    "it costs four pounds fifty": "It costs £4.50.",
    "it costs four pounds and fifty pence": "It costs £4.50.",
    "seven euros twenty": "€7.20.",
    "twelve thousand dollars": "$12,000.",
    "three point five kilometres": "3.5 kilometres.",
    "three point five percent": "3.5%.",
    "minus two degrees": "-2 degrees.",
    "two million": "2 million.",
    "the third of may twenty twenty six": "The 3rd of May 2026.",
    "may the third": "May the 3rd.",
    "we may go in may": "We may go in May.",
    "may i go": "May I go?",
    "march to the sea": "March to the sea.",
    "he was born in nineteen oh six": "He was born in 1906.",
    "one hundred and twenty first": "121st.",
    "the first": "The first.",
    "at three thirty": "At 3:30.",
    "from four to six": "From four to six.",
    "at nine oh seven p m": "At 9:07 pm.",
    "a quarter past six": "6:15.",
    "twenty five past five p m": "5:25 pm.",
    "room two one four": "Room 214.",
    "double seven three": "773.",
    "flight a b one two three": "Flight AB123.",
    "my name is spelled b r e n": "My name is spelled B R E N.",
    "plan b i think": "Plan b I think.",
    "i saw mister hale": "I saw Mr. Hale.",
    "what's the time": "What's the time?",
    "oh i see": "Oh I see.",
    "one or two people": "One or two people.",
}


class WrittenForms(unittest.TestCase):
    def test_each(self):
        for said, written in CASES.items():
            with self.subTest(said):
                self.assertEqual(written_text(said.split()), written)

    def test_what_is_written_is_said_again(self):
        for written in (
            "It costs £4.50.", "At 9:07 pm.", "The 3rd of May 2026.", "AB123.", "B R E N.", "3.5%.",
            "-2 degrees.", "12,345.", "1984.", "I saw Mr. Hale.", "2 million.", "121st.",
        ):  # fmt: skip
            with self.subTest(written):
                said = spoken_tokens(written)
                self.assertEqual(spoken_tokens(written_text(said)), said)


class Codes(unittest.TestCase):
    def test_letters_and_digits_together_are_all_said(self):
        for text, said in (
            ("KS4L", "k s four l"), ("AB123", "a b one two three"), ("B12", "b twelve"),
            ("B07", "b zero seven"), ("mp3", "m p three"), ("covid19", "covid nineteen"),
            ("h2o", "h two o"), ("10km", "ten kilometres"), ("3pm", "three p m"), ("4th", "fourth"),
            ("the 1990s", "the nineteen ninety s"), ("a1-b2", "a one b two"),
        ):  # fmt: skip
            self.assertEqual(" ".join(spoken_tokens(text)), said, text)

    def test_a_long_number_without_commas_is_said_digit_by_digit(self):
        self.assertEqual(spoken_tokens("1632960"), digits("1632960"))
        self.assertEqual(spoken_tokens("1,632,960"), cardinal(1_632_960))
        self.assertEqual(spoken_tokens("163296"), cardinal(163_296))


if __name__ == "__main__":
    unittest.main()
