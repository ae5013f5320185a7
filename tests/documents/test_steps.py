"""Steps of requests: lengths of time, sizes, rates, paths, conditions, templates and bodies."""

import unittest

from pydantic import TypeAdapter, ValidationError

from fond_echo.documents.steps import (
    Condition,
    JsonPath,
    Rate,
    Size,
    Span,
    Step,
    TemplateText,
    filter_path,
    json_path,
)


def read(kind, value):
    return TypeAdapter(kind).validate_python(value)


class Quantities(unittest.TestCase):
    def test_lengths_of_time(self):
        for text, seconds in (
            ("500ms", 0.5), ("1s", 1.0), (" 1.5 m ", 90.0), ("2h", 7_200.0), (0.25, 0.25), (3, 3.0),
        ):  # fmt: skip
            self.assertEqual(read(Span, text), seconds)

    def test_sizes(self):
        for text, count in (("300kB", 300_000), ("1.5MB", 1_500_000), ("7B", 7), ("1 GB", 10**9)):
            self.assertEqual(read(Size, text), count)
        self.assertEqual(read(Size, 12), 12)

    def test_rates(self):
        self.assertEqual(read(Rate, "20/s"), 20.0)
        self.assertAlmostEqual(read(Rate, "90/m"), 1.5)
        self.assertAlmostEqual(read(Rate, "36 / h"), 0.01)

    def test_what_is_none_says_how_it_is_written(self):
        for kind, values, words in (
            (Span, ("soon", "5", "1d", "-1s", "0s", "25h", "1,5s"), ("500ms", "greater", "less")),
            (Size, ("big", "3", "3mb", "0B", "-1B"), ("300kB", "greater")),
            (Rate, ("fast", "20", "20/d", "0/s"), ("20/s", "greater")),
        ):
            for value in values:
                with self.subTest(value), self.assertRaises(ValidationError) as reported:
                    read(kind, value)
                self.assertTrue(any(word in str(reported.exception) for word in words), value)


class Languages(unittest.TestCase):
    def test_paths_and_conditions(self):
        self.assertEqual(read(JsonPath, "$.a[0].b"), "$.a[0].b")
        found = json_path(filter_path("$.kind == 'joined' && $.n > 2")).find(
            [{"kind": "joined", "n": 3}]
        )
        self.assertEqual(len(found), 1)
        self.assertEqual(len(json_path(filter_path("$.kind == 'left'")).find([{"kind": "x"}])), 0)
        self.assertEqual(read(Condition, "@.a"), "@.a")

    def test_what_cannot_be_read_says_why(self):
        for kind, text, words in (
            (JsonPath, "a.b", "RFC 9535"), (JsonPath, "$[", "RFC 9535"),
            (Condition, "$.a ==", "condition"), (Condition, "", "condition"),
            (TemplateText, "{{ a", "template"), (TemplateText, "{{ a | nothing }}", "template"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(ValidationError) as reported:
                read(kind, text)
            self.assertIn(words, str(reported.exception))


class Steps(unittest.TestCase):
    def test_one_method_and_its_address(self):
        step = Step.model_validate({"patch": "http://a/{{ id }}", "json": {"a": 1}})
        self.assertEqual((step.method, step.url), ("patch", "http://a/{{ id }}"))
        self.assertEqual(step.body("json"), {"a": 1})
        for given, words in (
            ({}, "given: none"), ({"get": "a", "post": "b"}, "given: get and post"),
        ):  # fmt: skip
            with self.assertRaises(ValidationError) as reported:
                Step.model_validate(given)
            self.assertIn(words, str(reported.exception))

    def test_one_body(self):
        with self.assertRaises(ValidationError) as reported:
            Step.model_validate({"post": "a", "json": {}, "form": {"a": "b"}})
        self.assertIn("json and form", str(reported.exception))
        # `bytes: true` says that the answer is bytes; a template says what is sent.
        self.assertIsNone(Step.model_validate({"get": "a", "bytes": True}).body("bytes"))
        sent = Step.model_validate({"put": "a", "bytes": "{{ sound }}"})
        self.assertEqual(sent.body("bytes"), "{{ sound }}")

    def test_what_it_asks_for_wherever_it_stands(self):
        step = Step.model_validate(
            {
                "post": "http://{{ host }}/a",
                "query": {"q": "{{ query }}"},
                "headers": {"A": "{{ head }}", "B": {"secret": "word"}},
                "json": {"a": [{"b": "{{ deep }}"}, 7, None], "c": True},
            }
        )
        self.assertEqual(step.asks_for(), {"host", "query", "head", "deep"})
        self.assertEqual(list(step.secrets()), ["word"])

    def test_until(self):
        step = Step.model_validate(
            {"get": "a", "until": {"path": "$.state", "is": "done", "fails": "broken",
                                   "every": "200ms", "for": "2m"}}
        )  # fmt: skip
        self.assertEqual((step.until.is_, step.until.every, step.until.for_), ("done", 0.2, 120.0))

    def test_limits(self):
        for given in ({"get": "a", "retry": 11}, {"get": "a", "timeout": "2d"},
                      {"get": "a", "unknown": 1}, {"get": "{{ a"}):  # fmt: skip
            with self.subTest(given), self.assertRaises(ValidationError):
                Step.model_validate(given)


if __name__ == "__main__":
    unittest.main()
