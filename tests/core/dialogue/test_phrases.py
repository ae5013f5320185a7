"""Free words: after a command, in an example's place, and as the answer to a question."""

import unittest
from datetime import datetime

from fond_echo.core.dialogue.deciding import Dialogue, Said
from fond_echo.core.dialogue.phrases import Phrase
from fond_echo.core.dialogue.routing import Route, Router
from fond_echo.core.dialogue.slots import FREE, Slot

ANNOUNCE = Route(
    "announce", ("Make an announcement.",), "announce",
    phrases=(Phrase.of("Announce that {message}"), Phrase.of("tell {message} to everybody")),
)  # fmt: skip
ROUTER = Router([ANNOUNCE, Route("fares", ("How much is a ticket?",), "fares")])
SLOTS = {"announce": [Slot("message", FREE)], "fares": []}


class Phrases(unittest.TestCase):
    def test_words_are_taken_as_they_stand(self):
        phrase = Phrase.of("Announce that {message}")
        self.assertEqual(
            phrase.words_in("Please, announce that the 4.30 p.m. boat is LATE!", {"please"}),
            "the 4.30 p.m. boat is LATE!",
        )
        self.assertEqual(phrase.words_in("announce"), "")
        self.assertEqual(phrase.words_in("announce that"), "")
        self.assertEqual(phrase.words_in("who can announce that it is late"), "")
        asked = Phrase.of("When is the boat to {island}?")
        self.assertEqual(asked.words_in("When is the boat to Tern Rock?"), "Tern Rock")
        both = Phrase.of("tell {message} to everybody")
        self.assertEqual(both.words_in("Tell good luck, all, to everybody."), "good luck, all")

    def test_examples_that_are_none(self):
        for text in ("{message}", "say {one} and {two}", "say {One}", "say {}"):
            with self.subTest(text), self.assertRaises(ValueError):
                Phrase.of(text)


class Understanding(unittest.TestCase):
    def understand(self, text, open_=None, **said):
        dialogue = Dialogue(
            ROUTER, SLOTS.__getitem__, datetime(2026, 11, 28, 9, 0), lambda route: lambda *_: ""
        )
        return dialogue.understand(Said(text, **said), open_)

    def test_behind_a_command(self):
        found = self.understand("announce The boat is late, sorry", command=True)
        self.assertEqual(
            (found.outcome, found.slots), ("reply", {"message": "The boat is late, sorry"})
        )
        self.assertEqual(self.understand("announce", command=True).outcome, "ask")
        self.assertEqual(self.understand("announcement", command=True).decision.by, "example")

    def test_said_like_an_example(self):
        found = self.understand("Announce that the Petrel sails at noon.")
        self.assertEqual(found.decision.route, "announce")
        self.assertEqual(found.slots, {"message": "the Petrel sails at noon."})

    def test_whatever_answers_the_question_is_the_value(self):
        asked = self.understand("make an announcement")
        self.assertEqual((asked.outcome, asked.slot), ("ask", "message"))
        found = self.understand("How much is a ticket? Nobody knows!", asked.open)
        self.assertEqual(found.slots, {"message": "How much is a ticket? Nobody knows!"})
        self.assertEqual(self.understand("never mind", asked.open).outcome, "never-mind")

    def test_the_fixed_words_lead_there_too(self):
        self.assertEqual(self.understand("announce that").decision.route, "announce")


if __name__ == "__main__":
    unittest.main()
