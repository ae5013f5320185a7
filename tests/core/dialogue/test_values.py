"""What people type and say where a value is asked for, and how it is written down."""

import unittest
from datetime import datetime

from fond_echo.core.dialogue.slots import Slot, SlotMachine
from fond_echo.core.language.en.numbers import (
    cardinal,
    digit_by_digit,
    digits,
    prefix_value,
    years_as_numbers,
)
from fond_echo.core.language.en.spoken import spoken_tokens
from fond_echo.core.language.en.values import builtin_grammar
from fond_echo.core.language.en.written import written_text

NOW = datetime(2026, 11, 26, 9, 40)
"""A Thursday."""


def machine(*kinds, text=""):
    slots = [Slot(kind, f"builtin:{kind}") for kind in kinds]
    return SlotMachine(slots, builtin_grammar(), NOW, lambda *_: "", text)


def answered(kind, text):
    """The value that a text gives a slot that was asked for; None where it gives none."""
    requested = machine(kind).begin("route", []).open
    step = machine(kind, text=text).go_on(requested, spoken_tokens(text))
    return step.open.filled[kind].value if step.outcome == "ready" else None


class Typed(unittest.TestCase):
    def check(self, kind, cases):
        for text, value in cases.items():
            with self.subTest(text):
                self.assertEqual(answered(kind, text), value)

    def test_digits_are_those_that_were_typed(self):
        self.check("digits", {
            "7": "7", "42": "42", "214": "214", "0016": "0016", "12345": "12345", "1984": "1984",
            "2005": "2005", "1632960123": "1632960123", "214.": "214", "123-456": "123456", "12-34": "1234", "(01632) 960-123": "01632960123", "my code is 214 please": "214",
            "AB123": "123", "BREN": None, "twenty four": "24", "what code?": None,
        })  # fmt: skip

    def test_a_number_is_whole_or_none(self):
        self.check("number", {
            "7": 7, "214": 214, "12,345": 12_345, "1984": 1984, "2026": 2026, "-3": -3, "2.5": 2.5,
            "for 6 people": 6, "a dozen": 12, "two and a half": 2.5, "double seven three": None, "one six three": None, "0016": None,
            "1632960123": None,
        })  # fmt: skip

    def test_what_is_spelled_is_letters_however_it_is_typed(self):
        self.check("spelled", {
            "B R E N": "BREN", "bren": "BREN", "BREN": "BREN", "KS4L": "KS4L", "AB123": "AB123",
            "b for boat r": "BR", "42": "42", "214": "214", "what": None, "it is bren": None,
        })  # fmt: skip

    def test_times_of_day_as_figures_mean_what_they_say(self):
        self.check("time", {
            "16:10": "16:10", "09:30": "09:30", "00:15": "00:15", "0:15": "00:15", "9:30": "21:30",
            "9.50": "09:50", "9:30 am": "09:30", "1600 hours": "16:00", "23.59": "23:59", "4pm": "16:00",
            "12 am": "00:00", "12 pm": "12:00", "25:00": None, "09:30 or 10:30": "09:30",
        })  # fmt: skip

    def test_times_in_words(self):
        self.check("time", {
            "four": "16:00", "at 4": "16:00", "about nine": "21:00", "around 5 o'clock": "17:00",
            "just after 4 pm": "16:00", "tonight at 8": "20:00", "half past nine at night": "21:30",
            "in 20 minutes": "10:00", "in an hour and a half": "11:10", "noon": "12:00",
            "at ten past four": "16:10", "ten past": None, "when": None, "for two people": None,
        })  # fmt: skip

    def test_dates_as_people_write_them(self):
        self.check("date", {
            "24/12/2026": "2026-12-24", "24.12.2026": "2026-12-24", "2026-12-24": "2026-12-24",
            "24 December": "2026-12-24", "24 Dec": "2026-12-24", "Dec 24": "2026-12-24",
            "3 May": "2027-05-03", "on 3 may": "2027-05-03", "May 3, 2028": "2028-05-03",
            "Sept. 5": "2027-09-05", "3 March 2027": "2027-03-03", "31/02/2027": None,
            "30 February": None, "31 November": None, "99/99/2027": None,
        })  # fmt: skip

    def test_dates_in_words(self):
        self.check("date", {
            "today": "2026-11-26", "the day after tomorrow": "2026-11-28", "Friday": "2026-11-27",
            "this Thursday": "2026-11-26", "Thursday": "2026-12-03", "Friday week": "2026-12-04",
            "a week on Friday": "2026-12-04", "a week tomorrow": "2026-12-04",
            "in a fortnight": "2026-12-10", "in two weeks": "2026-12-10",
            "the 29th of February": "2028-02-29", "the 3rd": "2026-12-03",
            "Saturday the 28th": "2026-11-28",
        })  # fmt: skip

    def test_how_long(self):
        self.check("duration", {
            "1.5 hours": "PT1H30M", "2.5 days": "P2DT12H", "two and a half hours": "PT2H30M",
            "an hour and a half": "PT1H30M", "90 minutes": "PT1H30M", "a couple of weeks": "P14D",
            "2 weeks and 3 days": "P17D", "half an hour": "PT30M", "long": None,
        })  # fmt: skip

    def test_how_much(self):
        pounds = {"amount": 1.0, "currency": "GBP"}
        self.check("currency", {
            "a pound": pounds, "50p": {**pounds, "amount": 0.5}, "£4.50": {**pounds, "amount": 4.5},
            "€1,250": {"amount": 1250.0, "currency": "EUR"}, "nothing": None,
        })  # fmt: skip

    def test_yes_and_no_in_many_words(self):
        for text in ("yes", "yes please", "yeah sure", "okay then", "absolutely", "sure thing", "y",
                     "yes that's correct", "please", "Yes, the early one."):  # fmt: skip
            with self.subTest(text):
                self.assertIs(answered("boolean", text), True)
        for text in ("no", "No.", "no thanks", "not really", "I don't think so", "n", "never",
                     "of course not", "No, the other one.", "no not now"):  # fmt: skip
            with self.subTest(text):
                self.assertIs(answered("boolean", text), False)
        for text in ("maybe", "which one?", "the early one, yes"):
            with self.subTest(text):
                self.assertIsNone(answered("boolean", text))

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
            ("boolean", "no", False),
            ("boolean", "yes", True),
            ("spelled", "k s four l", "KS4L"),
            ("number", "two hundred and fourteen", 214),
            ("number", "three point five", 3.5),
            ("number", "minus two", -2),
            ("currency", "four pounds fifty", {"amount": 4.5, "currency": "GBP"}),
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
            ("the 1990s", "the nineteen nineties"), ("a1-b2", "a one b two"),
        ):  # fmt: skip
            self.assertEqual(" ".join(spoken_tokens(text)), said, text)

    def test_a_long_number_without_commas_is_said_digit_by_digit(self):
        self.assertEqual(spoken_tokens("1632960"), digits("1632960"))
        self.assertEqual(spoken_tokens("1,632,960"), cardinal(1_632_960))
        self.assertEqual(spoken_tokens("163296"), cardinal(163_296))


if __name__ == "__main__":
    unittest.main()
