"""JSONPath and patterns of authors, whose work is bounded whatever they are held against."""

import time
import unittest

from fond_echo.documents.errors import NoPattern
from fond_echo.documents.paths import json_path, pattern
from fond_echo.documents.steps import Step


def found(path, document):
    return [node.value for node in json_path(path).find(document)]


class Patterns(unittest.TestCase):
    def test_what_i_regexp_says(self):
        for text, within, whole in (
            ("[0-9]+", "berth 4", "44"), ("a.c", "xabcx", "a^c"), (r"\p{Lu}", "the Tern", "É"),
            ("^1", "a^1b", "^1"), ("5$", "cost 5$", "5$"), ("[^a]", "b", "^"), ("(a|b){2,3}", "xab", "aba"),
            (r"\.\*", "a.*b", ".*"), ("[$^]", "a$", "^"), ("a{10}", "a" * 12, "a" * 10), ("[0-9]{4,12}", "a4471", "44710815"),
        ):  # fmt: skip
            self.assertTrue(pattern(text).search(within), text)
            self.assertTrue(pattern(text).fullmatch(whole), text)
        for text, other in (("^1", "1"), ("5$", "5"), ("a.c", "a\nc"), (r"\.", "x")):
            self.assertFalse(pattern(text).search(other), text)

    def test_what_is_none(self):
        for text in ("(", r"\d+", "(?=a)", r"(a)\1", "a{2000}", "((a{100}){100}){100}"):
            with self.subTest(text), self.assertRaises(NoPattern):
                pattern(text)

    def test_no_text_makes_it_slow(self):
        begun = time.process_time()
        for text in ("(a|a)+b", "(a+)+b", "(a*)*b", "(.*)*x", "(a{1,30}){1,30}b"):
            for size in (30, 100_000):
                self.assertFalse(pattern(text).search("a" * size))
                self.assertFalse(found(f"$[?search(@,'{text}')]", ["a" * size]))
                self.assertFalse(found(f"$[?match(@,'{text}')]", ["a" * size]))
        self.assertLess(time.process_time() - begun, 20)


class Paths(unittest.TestCase):
    def test_functions_are_those_of_the_standard(self):
        posts = [{"id": "p1", "words": "Tern"}, {"id": "q2", "words": "Petrel"}, {"id": 7}]
        self.assertEqual(found("$[?match(@.id,'p[0-9]')].words", posts), ["Tern"])
        self.assertEqual(found("$[?search(@.words,'e')].id", posts), ["p1", "q2"])
        self.assertEqual(found("$[?search(@.id,'7')].id", posts), [])
        self.assertEqual(found("$..words", posts), ["Tern", "Petrel"])
        self.assertEqual(found("$[?@.id == $[0].id].words", posts), ["Tern"])
        self.assertEqual(found("$[?length(@.words) == 4].id", posts), ["p1"])

    def test_what_would_take_longer_than_a_document_is_long(self):
        for path, what in (
            ("$..a..b", "goes down"), ("$[?@..a]", "within a filter"), ("$[?count($[*])>1]", "at the root"),
            ("$[?$..a]", "at the root"), ("$" + "[0,0]" * 5, "32 ways"), ("$" + "[0,1,2]" * 90, "at most 500"),
            ("$[?search(@,'(')]", "no pattern"), ("$[?@[?match(@.x,'\\\\d')]]", "no pattern"),
            ("$[?!search(@.x,'(?:a)')]", "no pattern"), ("$[", "not a JSONPath"),
        ):  # fmt: skip
            with self.subTest(path), self.assertRaisesRegex(ValueError, what):
                json_path(path)

    def test_a_wide_document_is_followed_in_time(self):
        wide = [{"a": [{"b": [1, 2, 3]} for _ in range(30)]} for _ in range(1_000)]
        begun = time.process_time()
        for path in ("$..b[*]", "$[*][*][*][*][*]", "$..[?@.b]", "$[?@.a[?@.b]]", "$..*"):
            self.assertTrue(found(path, wide), path)
        self.assertLess(time.process_time() - begun, 30)

    def test_a_connector_file_says_so(self):
        with self.assertRaisesRegex(ValueError, "no pattern"):
            Step.model_validate({"get": "{{ base }}/x", "take": {"a": "$[?search(@,'(a')]"}})
