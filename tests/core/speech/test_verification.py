"""Words that were spoken and did not come back."""

import doctest
import unittest

from fond_echo.core.language import pls
from fond_echo.core.language.pls import from_ipa, lexeme, read_pls, to_ipa
from fond_echo.core.recognition import verification
from fond_echo.core.recognition.verification import Doubt, doubts, mispronounced
from fond_echo.speech.material import lexicon


class SpeechVerification(unittest.TestCase):
    def doubts(self, said, heard):
        sounds = lexicon("en").pronunciations
        return [(each.word, each.heard) for each in doubts(said.split(), heard.split(), sounds)]

    def test_what_sounds_alike_did_come_back(self):
        self.assertEqual(self.doubts("the next sail to pell", "the next sale two pell"), [])

    def test_what_was_heard_as_something_else_or_not_at_all_did_not(self):
        self.assertEqual(
            self.doubts("boats to brannick sail at noon", "boats to branch sail noon"),
            [("brannick", "branch"), ("at", "")],
        )
        self.assertEqual(self.doubts("good day", "a very good day"), [])

    def test_the_worst_words_of_many_texts_come_first(self):
        texts = [
            ("t3", ["to", "pell"], [Doubt("pell", "bell")]),
            ("t2", ["pell", "at", "noon"], [Doubt("pell", "bell"), Doubt("noon", "")]),
            ("t1", ["to", "pell"], []),
        ]
        pell, noon = mispronounced(texts)
        self.assertEqual((pell.word, pell.said, pell.missed), ("pell", 3, 2))
        self.assertEqual((pell.heard, pell.where), (("bell",), ("t3", "t2")))
        self.assertEqual((noon.said, noon.heard), (1, ("",)))

    def test_a_proposed_entry_is_read_as_it_is_said(self):
        words = lexicon("en")
        for word in ("guillemot", "brannick", "harbour", "through", "judge", "measure", "young"):
            said = words.pronunciations(word)[0]
            self.assertEqual(from_ipa(to_ipa(said)), said, word)
            entry = lexeme(word, said)
            text = f'<lexicon version="1.0" alphabet="ipa">{entry}</lexicon>'
            self.assertEqual(read_pls(text), ((word, " ".join(said)),))

    def test_examples(self):
        for module in (pls, verification):
            self.assertEqual(doctest.testmod(module).failed, 0)
