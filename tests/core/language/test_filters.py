"""What may stand behind a bar in a template, one by one; and words as they mean."""

import unittest
from datetime import UTC, datetime

from fond_echo.core.language.en.wording import common, concept, concepts, known, stem
from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.templates import FILTERS, compile_template

AT = datetime(2026, 11, 27, 16, 5, tzinfo=UTC)


def made(template, **values):
    return compile_template(template).render(values)


class Filters(unittest.TestCase):
    CASES = (
        ("base64", "{{ a | base64 }}", {"a": "sound"}, "c291bmQ="),
        ("capitalize", "{{ a | capitalize }}", {"a": "little Marrow"}, "Little Marrow"),
        ("date", "{{ a | date }}", {"a": AT}, "2026-11-27"),
        ("day", "{{ a | day }}", {"a": AT}, "Friday, 27 November"),
        ("day", "{{ a | day }}", {"a": "2026-12-01"}, "Tuesday, 1 December"),
        ("default", "{{ a | default('none') }}", {"a": None}, "none"),
        ("default", "{{ b | default('none') }}", {}, "none"),
        ("default", "{{ a | default(7) }}", {"a": 0}, 0),
        ("first", "{{ a | first }}", {"a": [3, 4]}, 3),
        ("first", "{{ a | first }}", {"a": []}, None),
        ("float", "{{ a | float }}", {"a": "2.5"}, 2.5),
        ("int", "{{ a | int }}", {"a": "7"}, 7),
        ("join", "{{ a | join(', ') }}", {"a": [1, "b"]}, "1, b"),
        ("last", "{{ a | last }}", {"a": [3, 4]}, 4),
        ("last", "{{ a | last }}", {"a": []}, None),
        ("length", "{{ a | length }}", {"a": "four"}, 4),
        ("list", "{{ a | list }}", {"a": (1, 2)}, [1, 2]),
        ("lower", "{{ a | lower }}", {"a": "PELL"}, "pell"),
        ("max", "{{ a | max }}", {"a": [3, 9, 4]}, 9),
        ("min", "{{ a | min }}", {"a": [3, 9, 4]}, 3),
        ("path", "{{ a | path }}", {"a": "notes/the 1.ogg"}, "notes/the%201.ogg"),
        ("points", "{{ a | points(2) | length }}", {"a": [0.1, 0.2, 0.3, 0.4]}, 2),
        ("scale", "{{ a | scale(0, 100) }}", {"a": [0.0, 0.5, 1.0]}, [0, 50, 100]),
        ("replace", "{{ a | replace('e', 'o') }}", {"a": "pell"}, "poll"),
        ("round", "{{ a | round }}", {"a": 2.6}, 3),
        ("round", "{{ a | round(1) }}", {"a": 2.64}, 2.6),
        ("sort", "{{ a | sort }}", {"a": [3, 1, 2]}, [1, 2, 3]),
        ("string", "{{ a | string }}", {"a": 7}, "7"),
        ("sum", "{{ a | sum }}", {"a": [1, 2.5]}, 3.5),
        ("time", "{{ a | time }}", {"a": AT}, "16:05"),
        ("title", "{{ a | title }}", {"a": "little marrow"}, "Little Marrow"),
        ("trim", "{{ a | trim }}", {"a": "  a "}, "a"),
        ("upper", "{{ a | upper }}", {"a": "pell"}, "PELL"),
    )

    def test_each(self):
        for name, template, values, value in self.CASES:
            with self.subTest(template, **{"values": values}):
                found = made(template, **values)
                self.assertEqual(found, value)
                self.assertIs(type(found), type(value), name)

    def test_none_is_left_out(self):
        self.assertEqual({name for name, *_ in self.CASES}, set(FILTERS))

    def test_what_does_not_fit_is_told(self):
        for template, values in (
            ("{{ a | int }}", {"a": "seven"}), ("{{ a | date }}", {"a": 7}), ("{{ a | day }}", {"a": "soon"}),
            ("{{ a | sum }}", {"a": ["x"]}), ("{{ a | max }}", {"a": []}), ("{{ a | length }}", {"a": 7}),
            ("{{ a | points(0) }}", {"a": [0.1]}), ("{{ a | points(5000) }}", {"a": [0.1]}),
            ("{{ b | upper }}", {}), ("{{ a.b.c }}", {"a": {}}), ("{{ a | replace('', a) }}", {"a": "x" * 9_999}),
        ):  # fmt: skip
            with self.subTest(template), self.assertRaises(TemplateFailed):
                made(template, **values)

    def test_behind_one_another_and_in_text(self):
        self.assertEqual(made("At {{ a | time }} to {{ b | first | title }}.", a=AT, b=["pell"]),
                         "At 16:05 to Pell.")  # fmt: skip


class Meanings(unittest.TestCase):
    def test_words_without_their_endings(self):
        for word, found in (
            ("boats", "boat"), ("boat's", "boat"), ("carrying", "carry"), ("ferries", "ferry"),
            ("stopped", "stop"), ("passes", "pass"), ("bus", "bus"), ("this", "this"), ("thing", "thing"),
            ("selling", "sell"), ("tidiness", "tidy"), ("go", "go"), ("needed", "need"),
        ):  # fmt: skip
            self.assertEqual(stem(word), found, word)

    def test_words_that_ask_for_the_same_are_one(self):
        self.assertEqual(concept("fare"), concept("fares"))
        self.assertEqual(concept("boat"), concept("ferry"))
        self.assertNotEqual(concept("boat"), concept("dog"))
        self.assertEqual(concepts([]), [])

    def test_how_usual_a_word_is(self):
        self.assertTrue(common("where"))
        self.assertFalse(common("umbrella"))
        self.assertTrue(known("umbrella"))
        self.assertFalse(known("recieve"))
        self.assertFalse(known("zzxqj"))


if __name__ == "__main__":
    unittest.main()
