"""What the service itself says, and an assistant's own words for it."""

import unittest

from fond_echo.core.language.en.sentences import SENTENCES
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.language.sentences import Sentence, Sentences, places
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.reading import read_assistant
from tests.made_up import LANGUAGE

DESK = """\
assistant: desk
routes: [{route: fares, examples: [How much is it?], reply: {text: Four pounds.}}]
fallback: {reply: {text: I know about fares.}}
"""


def assistant(sentences):
    return read_assistant({"assistant.yaml": DESK + "sentences:\n" + sentences})


class Own(unittest.TestCase):
    def test_every_sentence_can_be_filled_in(self):
        says = Sentences(language_of())
        for name, text in SENTENCES.items():
            filled = dict.fromkeys(places(text), "Pell")
            self.assertTrue(says.text(name, **filled))
            self.assertNotIn("{", says.text(name, **filled))

    def test_own_words_come_first(self):
        own = {"never-mind": Sentence("Right you are.", "Right, you are.")}
        for says in (Sentences(language_of(), own), Sentences(LANGUAGE, own)):
            self.assertEqual(says.get("never-mind"), Sentence("Right you are.", "Right, you are."))
            self.assertEqual(says.text("did-you-mean", title="Pell"), "Did you mean: Pell?")

    def test_an_assistant_s_file_puts_its_own_in_their_place(self):
        found = assistant(
            "  never-mind: As you like.\n"
            "  did-you-mean: {text: '{title}, is that it?', spoken: 'Is it {title}?'}\n"
        )
        self.assertEqual(found.says.text("never-mind"), "As you like.")
        self.assertEqual(found.says.get("did-you-mean", title="Pell").spoken, "Is it Pell?")
        self.assertEqual(found.says.text("taken-back"), SENTENCES["taken-back"])

    def test_what_is_wrong_is_said_with_its_place(self):
        for text, wanted in (
            ("  nevermind: x", "the service says no sentence 'nevermind'"),
            ("  did-you-mean: Is that it?", "the sentence did-you-mean has {title}"),
            ("  never-mind: 'As {you} like.'", "the sentence never-mind has nothing in braces"),
            ("  never-mind: 'As { like.'", "assistant.yaml:5"),
        ):
            with self.subTest(text), self.assertRaises(InvalidFile) as found:
                assistant(text + "\n")
            self.assertIn(wanted, str(found.exception))


if __name__ == "__main__":
    unittest.main()
