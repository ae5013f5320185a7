import unittest

from fond_echo.core.language.en.figures import clock
from fond_echo.core.language.en.numbers import (
    cardinal,
    digits_of,
    ordinal,
    ordinal_value,
    value_of,
    year,
)
from fond_echo.core.language.en.spoken import phrases, spoken_tokens
from fond_echo.core.language.en.written import written_parts, written_text


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

    def check(self, cases):
        for text, said in cases.items():
            with self.subTest(text):
                self.assertEqual(" ".join(spoken_tokens(text)), said)

    def test_no_is_a_number_only_before_one(self):
        self.check({
            "No.": "no", "I said no. Really": "i said no really", "No. 5, no. 6": "number five number six",
            "#4": "number four", "no": "no",
        })  # fmt: skip

    def test_from_and_to(self):
        self.check({
            "10:00–12:00": "ten o'clock to noon", "9.30-10.30": "half past nine to half past ten",
            "2-3 people": "two to three people", "10–250": "ten to two hundred and fifty",
            "10am–4pm": "ten a m to four p m", "960-12-34": "nine hundred and sixty twelve thirty four",
            "2026-11-26": "the twenty sixth of november twenty twenty six",
        })  # fmt: skip

    def test_money_of_any_size_and_spelling(self):
        self.check({
            "£1.5m": "one point five million pounds", "$2bn": "two billion dollars", "£4.5": "four pounds fifty",
            "€ 4,50, then €1,250": "four euros fifty then one thousand two hundred and fifty euros",
            "5 $": "five dollars", "20 EUR": "twenty euros", "£0.05": "five pence", "1p": "one penny",
            "£1.00": "one pound", "£1.255": "one point two five five pounds",
        })  # fmt: skip

    def test_amounts_with_their_units(self):
        self.check({
            "1 km": "one kilometre", "2km": "two kilometres", "5 km/h": "five kilometres an hour",
            "1.5 l": "one point five litres", "-3°C": "minus three degrees celsius", "5G": "five g",
            "1 min": "one minute", "30 secs": "thirty seconds", "24h": "twenty four hours", "2M": "two m",
        })  # fmt: skip

    def test_parts_and_decades(self):
        self.check({
            "1/2 price": "half price", "3/4": "three quarters", "2 1/2 hours": "two and a half hours",
            "½": "half", "24/7": "twenty four seven", "the '90s": "the nineties",
            "1960s": "nineteen sixties", "9/4": "nine four",
        })  # fmt: skip

    def test_addresses_with_their_dots(self):
        self.check({
            "info@harbour.example": "info at harbour dot example",
            "www.harbour.example/fares": "w w w dot harbour dot example slash fares",
            "a_b+c-2@d.example.": "a underscore b plus c dash two at d dot example",
        })  # fmt: skip

    def test_titles_and_streets(self):
        self.check({
            "Mr Hale and Dr. Quennell": "mister hale and doctor quennell", "St. Mary": "saint mary",
            "5 High St.": "five high street", "Sea Rd., Quay Sq.": "sea road quay square",
            "Gulls vs. terns": "gulls versus terns", "dr": "dr",
        })  # fmt: skip

    def test_times_of_day(self):
        cases = {(0, 0): "midnight", (12, 0): "noon", (16, 0): "four o'clock", (7, 45): "quarter to eight",
                 (23, 55): "five to twelve", (12, 30): "half past twelve", (0, 10): "ten past twelve"}  # fmt: skip
        for (hour, minute), words in cases.items():
            self.assertEqual(" ".join(clock(hour, minute)), words)

    def test_phrases_and_their_pauses(self):
        found = phrases("At 16.10, e.g. from Pell. Is it windy? Yes!")
        self.assertEqual([" ".join(each.tokens) for each in found],
                         ["at ten past four", "for example from pell", "is it windy", "yes"])  # fmt: skip
        self.assertEqual([each.melody for each in found], ["list", "fall", "rise", "command"])
        self.assertGreater(found[1].pause, found[0].pause)
        self.assertEqual(phrases("… !?"), [])

    def test_any_text_is_taken(self):
        for text in (
            "\0",
            "a" * 5_000,
            "١٢٣",
            "½ ²",
            "::::",
            "9" * 400,
            "\n\n",
            "5,min",
            "30m\u0131n",
            "\u20ac\u00bd,km",
            "12:99",
            "0",
        ):
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

    def test_a_pause_ends_a_sentence_where_one_may_end(self):
        cases = {
            "the boat is late / please tell my sister": "The boat is late. Please tell my sister.",
            "when does it leave / i have a bike": "When does it leave? I have a bike.",
            "please tell my / sister that i wait": "Please tell my sister that I wait.",
            "it is oh one six three / two nine six oh": "It is 01632960.",
            "call me on / five five one / please": "Call me on 551 please.",
            "yes / i want two tickets": "Yes. I want two tickets.",
            "brannick / is where i live": "Brannick is where I live.",
            " / / the end": "The end.",
            "": "",
        }
        for words, text in cases.items():
            parts = [each.split() for each in words.split("/")]
            self.assertEqual(written_parts(parts, ["Brannick"]), text)

    def test_written_and_spoken_meet(self):
        for text in (
            "The boat leaves at 4:10.",
            "Call 1632960123.",
            "It costs £24.",
            "On the 23rd.",
        ):
            self.assertEqual(written_text(spoken_tokens(text)), text)
