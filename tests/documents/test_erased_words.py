"""A person's words are taken out of an assistant's files, and nothing else is."""

import unittest

from fond_echo.documents.erased_words import Person, found_in, normalized, without

MAIN = """\
assistant: harbour-desk
# who sails
routes:
  - route: next-sailing
    examples: [is there a boat, "When does the ferry to Pell go?", how late]   # asked often
    reply: {text: Soon.}
  - route: lost-property
    examples:
      - I lost a thing
      - I left my grey umbrella on the Petrel.   # hers
      - where is my hat
    reply: {text: At the office.}
  - route: fares
    examples: ["what did I pay on Friday"]
    reply: {text: Four pounds.}
"""
SCENARIO = """\
scenario: somebody asks
steps:
  - says: When does the ferry to Pell go?
  - says: thank you
"""
KEPT = "case: kept\nabout: kept from turn 0197-abc of 2026-11-30\nsound: kept.ogg\nexpect: {route: fares}\n"
SAID = "case: said\nsaid: when does the ferry to PELL go\nexpect: {route: next-sailing}\n"
OTHER = "case: other\nsaid: hello\nexpect: {route: fallback}\n"
FILES = {
    "assistant.yaml": MAIN, "scenarios/a.yaml": SCENARIO, "cases/kept.yaml": KEPT,
    "cases/kept.ogg": "T2dnUw==", "cases/said.yaml": SAID, "cases/other.yaml": OTHER,
    "handbook.md": "When does the ferry to Pell go?",
}  # fmt: skip
TEXTS = (
    "When does the ferry to Pell go", "I left my grey umbrella on the Petrel", "hello",
    "What did I pay on Friday?", "how late",
)  # fmt: skip
ISLA = Person(frozenset(map(normalized, TEXTS)), frozenset(["0197-abc"]))


class Erased(unittest.TestCase):
    def test_where_they_stand(self):
        found = [(each.file, each.line, each.what) for each in found_in(FILES, ISLA)]
        self.assertEqual(
            found,
            [
                ("assistant.yaml", 5, "an example of next-sailing"),
                ("assistant.yaml", 10, "an example of lost-property"),
                ("assistant.yaml", 14, "an example of fares"),
                ("cases/kept.yaml", 1, "a case that was kept"),
                ("cases/said.yaml", 1, "a case that was kept"),
                ("scenarios/a.yaml", 3, "what is said (says)"),
            ],
        )

    def test_they_go_and_what_is_beside_them_stays(self):
        files = without(FILES, ISLA)
        self.assertEqual(sorted(files), ["assistant.yaml", "cases/other.yaml", "handbook.md",
                                         "scenarios/a.yaml"])  # fmt: skip
        main = files["assistant.yaml"]
        self.assertIn("examples: [is there a boat, how late]   # asked often", main)
        self.assertIn("      - I lost a thing\n      - where is my hat\n", main)
        self.assertIn("examples: [fares]", main)
        self.assertIn("# who sails", main)
        self.assertIn("- says: erased\n  - says: thank you", files["scenarios/a.yaml"])
        self.assertEqual(found_in(files, ISLA), [])
        self.assertEqual(without(files, ISLA), files)

    def test_of_the_first_and_the_last_in_a_list_the_comma_goes_too(self):
        for examples, left in (
            ("[when does the ferry to pell go, a b]", "[a b]"),
            ("[a b, when does the ferry to pell go]", "[a b]"),
            ("[a b,\n     when does the ferry to pell go]", "[a b]"),
        ):
            text = f"routes:\n  - route: x\n    examples: {examples}\n"
            self.assertIn(
                f"examples: {left}\n", without({"assistant.yaml": text}, ISLA)["assistant.yaml"]
            )

    def test_words_that_are_written_with_numbers_of_letters_are_found(self):
        text = (
            'routes:\n  - route: x\n    examples: ["when does the ferry to P\\u0065ll go", a b]\n'
        )
        self.assertEqual(len(found_in({"assistant.yaml": text}, ISLA)), 1)

    def test_nobody_in_particular_changes_nothing(self):
        nobody = Person(frozenset(), frozenset())
        self.assertEqual((found_in(FILES, nobody), without(FILES, nobody)), ([], FILES))
        broken = {"assistant.yaml": "routes: [", "cases/x.yaml": ": :"}
        self.assertEqual(without(broken, ISLA), broken)
