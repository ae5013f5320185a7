"""Documents whose sections are like one another."""

import unittest

from fond_echo.core.dialogue.documents import Documents

CREW = """# Crew

## Signing on

Sign the book at the office before six.

## Signing off

Hand your keys back to the office and sign the book.

## Dogs on board

Dogs travel free.

## Bicycles on board

Bicycles travel for a pound.
"""


class Alike(unittest.TestCase):
    def setUp(self):
        self.documents = Documents({"handbook/crew.md": CREW})

    def test_a_verb_and_its_particle_are_another_verb(self):
        for question, heading in (
            ("How do I sign off?", "Signing off"), ("How do I sign on?", "Signing on"),
            ("where do I sign-off", "Signing off"), ("do I sign in the book", None),
        ):  # fmt: skip
            with self.subTest(question):
                found = self.documents.best(question)
                if heading:
                    self.assertEqual(found.passage.heading, heading)
                self.assertEqual(self.documents.near(question) if heading else [], [])

    def test_near_ties_are_told(self):
        near = self.documents.near("What travels on board?")
        self.assertEqual(
            {each.passage.heading for each in near}, {"Dogs on board", "Bicycles on board"}
        )
        self.assertEqual(self.documents.near("Do dogs travel free?"), [])
        self.assertEqual(self.documents.near("Who sells fish?"), [])


if __name__ == "__main__":
    unittest.main()
