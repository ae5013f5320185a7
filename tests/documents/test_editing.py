"""One more example in a file that a person wrote: nothing else changes."""

import doctest
import unittest

from ruamel.yaml import YAML

from fond_echo.documents import editing
from fond_echo.documents.editing import with_example
from fond_echo.documents.errors import InvalidFile

FILE = """\
# A desk.
assistant: small-desk   # its name
routes:
  - route: fares
    examples:
      - How much is a ticket?   # asked most
      - What does it cost?

    reply: {text: Four pounds.}
  - route: hours
    examples: [When are you open?]   # on one line
    reply: {text: From nine.}
  - route: word
    command: word
    reply: {text: Yes.}
fallback:
  reply: {text: I know about fares.}
"""


class Examples(unittest.TestCase):
    def added(self, route, example='Is it "dear"?'):
        found = with_example(FILE, route, example)
        document = YAML(typ="safe").load(found)
        (spec,) = [each for each in document["routes"] if each["route"] == route]
        self.assertEqual(spec["examples"][-1], example)
        kept = [line for line in found.splitlines() if line in FILE.splitlines()]
        return found, len(FILE.splitlines()) - len(kept)

    def test_in_a_list_on_lines_of_their_own(self):
        found, changed = self.added("fares")
        self.assertEqual(changed, 0)
        self.assertIn('      - What does it cost?\n      - "Is it \\"dear\\"?"\n', found)

    def test_in_a_list_on_one_line(self):
        found, changed = self.added("hours")
        self.assertEqual(changed, 1)
        self.assertIn("# on one line", found)

    def test_where_there_were_none(self):
        found, changed = self.added("word")
        self.assertEqual(changed, 0)
        self.assertIn("  - route: word\n    examples: [", found)

    def test_signs_that_yaml_reads(self):
        for example in ("a: b", "- no", "#hash", "é ü", "it's", "{x}"):
            self.added("fares", example)

    def test_a_route_that_is_not_there(self):
        with self.assertRaisesRegex(InvalidFile, "there is no route 'nothing'"):
            with_example(FILE, "nothing", "x")

    def test_examples(self):
        self.assertEqual(doctest.testmod(editing).failed, 0)
