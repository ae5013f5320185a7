"""Connector files of engines: read, checked, and every error at its place."""

import unittest

from fond_echo.documents.engine import read_engine
from fond_echo.documents.errors import InvalidFile

GOOD = """\
engine: wharf-ear
does: transcribe
request:
  - post: "{{ base }}/hear"
    headers: {Authorization: "Bearer {{ secrets.wharf }}", X-Mark: {secret: mark}}
    multipart: {file: "{{ sound }}"}
    take: {words: "$.words"}
result: {text: "{{ words }}"}
price: {per_minute: 0.01}
"""


class Files(unittest.TestCase):
    def errors(self, *changes):
        text = GOOD
        for old, new in changes:
            self.assertIn(old, text)
            text = text.replace(old, new)
        with self.assertRaises(InvalidFile) as found:
            read_engine(text, "wharf.yaml")
        return [str(each) for each in found.exception.errors]

    def test_a_good_one(self):
        found = read_engine(GOOD, "wharf.yaml")
        self.assertEqual((found.engine, found.does), ("wharf-ear", "transcribe"))
        self.assertEqual(found.secrets(), {"wharf", "mark"})
        self.assertEqual(found.sound.format, "flac")

    def test_every_error_has_its_place(self):
        for changes, where, what in (
            ([("{{ sound }}", "{{ tune }}")], ":4:", "nothing fills in {{ tune }}"),
            ([("{{ sound }}", "{{ seconds }}")], ":4:", "the request never uses {{ sound }}"),
            ([("{{ words }}", "{{ wrods }}")], ":8:", "nothing fills in {{ wrods }}"),
            ([("does: transcribe", "does: hum")], ":2:", "transcribe"),
            ([("does: transcribe", "does: speak")], ":", "bytes: true"),
            ([("result: {text: \"{{ words }}\"}", "result: {}")], ":", "needs result"),
            ([("per_minute: 0.01", "per_minute: -1")], ":9:", "greater than or equal to 0"),
            ([("per_minute", "per_hour")], ":9:", "there is no field 'per_hour'"),
            ([("$.words", "$..[")], ":", "JSONPath"),
            ([("- post:", "- past:")], ":", "there is no field 'past'"),
            ([("price:", "limits: {timeout: soon}\nprice:")], ":9:", "length of time"),
            ([("price:", "languages: [x]\nprice:")], ":9:", "at least 2 characters"),
        ):  # fmt: skip
            with self.subTest(changes=changes):
                found = self.errors(*changes)
                self.assertTrue(any(where in each and what in each for each in found), found)

    def test_what_only_an_engine_that_answers_may_have(self):
        calls = 'result: {calls: {each: "{{ words }}", name: "$.n", arguments: "$.a"}, text: "{{ words }}"}'
        self.assertIn(
            "for engines that answer", str(self.errors(('result: {text: "{{ words }}"}', calls)))
        )


if __name__ == "__main__":
    unittest.main()

    def test_the_person_s_words_arrive_at_whoever_answers(self):
        answers = GOOD.replace("does: transcribe", "does: answer")
        for sent in ("{{ text }}", "{{ marked }}"):
            read_engine(answers.replace("{{ sound }}", sent), "wharf.yaml")
        with self.assertRaises(InvalidFile) as found:
            read_engine(answers.replace("{{ sound }}", "{{ brief }}"), "wharf.yaml")
        self.assertIn("never uses {{ text }} or {{ marked }}", str(found.exception))
