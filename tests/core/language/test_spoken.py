import unittest

from fond_echo.core.language.numbers import (
    cardinal,
    digits_of,
    ordinal,
    ordinal_value,
    value_of,
    year,
)
from fond_echo.core.language.spoken import clock, phrases, spoken_tokens
from fond_echo.core.language.written import written_text


class Numbers(unittest.TestCase):
    def test_cardinals_come_back(self):
        for number in [*range(0, 131), 999, 1_000, 1_001, 1_100, 12_345, 1_000_000, 987_654_321]:
            self.assertEqual(value_of(cardinal(number)), number, cardinal(number))

    def test_ordinals_come_back(self):
        for number in [*range(1, 32), 42, 100, 101, 1_000]:
            self.assertEqual(ordinal_value(ordinal(number)), number, ordinal(number))

    def test_what_is_no_number(self):
        for words in (
            "one six three",
            "twenty thirty",
            "hundred",
            "and",
            "boat",
            "five twenty",
            "",
        ):
            self.assertIsNone(value_of(words.split()), words)
        self.assertEqual(digits_of("oh one six".split()), "016")

    def test_years(self):
        self.assertEqual(" ".join(year(1984)), "nineteen eighty four")
        self.assertEqual(" ".join(year(1906)), "nineteen oh six")
        self.assertEqual(" ".join(year(2005)), "two thousand and five")


class Spoken(unittest.TestCase):
    def test_each_kind_of_thing(self):
        cases = {
            "The 16:10": "the ten past four",
            "at 9:07": "at nine oh seven",
            "10 p.m. today": "ten p m today",
            "£4.50 or £1": "four pounds fifty or one pound",
            "50 %": "fifty percent",
            "the 3rd of May": "the third of may",
            "2026-11-25": "the twenty fifth of november twenty twenty six",
            "+44 1632 960123": "four four one six three two nine six zero one two three",
            "-3.5": "minus three point five",
            "1,250 km": "one thousand two hundred and fifty kilometres",
            "Dr. Quennell's boat": "doctor quennell's boat",
            "fish & chips": "fish and chips",
            "a SMS": "a s m s",
            "isn’t it?": "isn't it",
            "🙂 …": "",
        }
        for text, words in cases.items():
            self.assertEqual(" ".join(spoken_tokens(text)), words, text)

    def test_times_of_day(self):
        cases = {(0, 0): "midnight", (12, 0): "noon", (16, 0): "four o'clock", (7, 45): "quarter to eight",
                 (23, 55): "five to twelve", (12, 30): "half past twelve", (0, 10): "ten past twelve"}  # fmt: skip
        for (hour, minute), words in cases.items():
            self.assertEqual(" ".join(clock(hour, minute)), words)

    def test_phrases_and_their_pauses(self):
        found = phrases("At 16.10, e.g. from Pell. Is it windy? Yes!")
        self.assertEqual([" ".join(each.tokens) for each in found],
                         ["at ten past four", "for example from pell", "is it windy", "yes"])  # fmt: skip
        self.assertEqual([each.question for each in found], [False, False, True, False])
        self.assertGreater(found[1].pause, found[0].pause)
        self.assertEqual(phrases("… !?"), [])

    def test_any_text_is_taken(self):
        for text in ("\0", "a" * 5_000, "١٢٣", "½ ²", "::::", "9" * 400, "\n\n", "12:99", "0"):
            for token in spoken_tokens(text):
                self.assertRegex(token, r"^[^\d\s]+$")


class Written(unittest.TestCase):
    def test_written_forms(self):
        cases = {
            "when is the boat at ten past four to brannick": "When is the boat at 4:10 to Brannick?",
            "two bicycles on the twenty third": "Two bicycles on the 23rd.",
            "call one six three two nine six oh one two three": "Call 1632960123.",
            "it costs twenty four pounds": "It costs £24.",
            "quarter to twelve or seven o'clock": "11:45 or 7:00.",
            "ten p m on friday": "10 pm on Friday.",
            "i think so": "I think so.",
            "fifty percent": "50%.",
        }
        for words, text in cases.items():
            self.assertEqual(written_text(words.split(), ["Brannick"]), text)
        self.assertEqual(written_text([]), "")

    def test_written_and_spoken_meet(self):
        for text in (
            "The boat leaves at 4:10.",
            "Call 1632960123.",
            "It costs £24.",
            "On the 23rd.",
        ):
            self.assertEqual(written_text(spoken_tokens(text)), text)
