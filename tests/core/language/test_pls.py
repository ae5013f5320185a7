"""Pronunciation lexicons (PLS 1.0)."""

import unittest

from fond_echo.core.language.errors import LexiconError
from fond_echo.core.language.pls import from_ipa, read_pls
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.synthesizer import Synthesizer
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.reading import read_assistant
from fond_echo.speech.material import lexicon, recognizer

NAMES = """\
<?xml version="1.0" encoding="UTF-8"?>
<lexicon version="1.0" xmlns="http://www.w3.org/2005/01/pronunciation-lexicon" alphabet="ipa"
    xml:lang="en">
  <lexeme><grapheme>Wyrralsy</grapheme><phoneme>ˈwɪrəlseɪ</phoneme><phoneme>ˈwɜːlsi</phoneme></lexeme>
  <lexeme><grapheme>TSF</grapheme><alias>Tern Sound Ferries</alias></lexeme>
</lexicon>
"""
DESK = """\
assistant: test-desk
lexicon: names.pls
routes:
  - route: fares
    examples: [How much is a ticket to Wyrralsy?]
    reply: {text: Four pounds.}
fallback: {reply: {text: I know about boats.}}
"""


class Alphabet(unittest.TestCase):
    def test_sounds_and_stress(self):
        for ipa, said in (
            ("ˈtʃɔɪs", "CH OY1 S"), ("bəˈtɒn", "B AH0 T AA1 N"), ("ˌaɪˈdɪə", "AY2 D IH1 R"),
            ("ʃiːp", "SH IY1 P"), ("lɒx", "L AA1 K"), ("dʒʌd͡ʒ", "JH AH1 JH"), ("ˈθɪŋ.kɪŋ", "TH IH1 NG K IH0 NG"),
        ):  # fmt: skip
            self.assertEqual(" ".join(from_ipa(ipa)), said, ipa)

    def test_a_sign_that_is_none(self):
        with self.assertRaisesRegex(ValueError, "§"):
            from_ipa("b§t")


class Reading(unittest.TestCase):
    def test_words_with_their_sounds_and_those_they_are_said_as(self):
        self.assertEqual(
            read_pls(NAMES),
            (("wyrralsy", "W IH1 R AH0 L S EY0"), ("wyrralsy", "W ER1 L S IY0"),
             ("tsf", "=Tern Sound Ferries")),
        )  # fmt: skip
        known = lexicon().with_sounds(read_pls(NAMES))
        self.assertEqual(len(known.pronunciations("wyrralsy")), 2)
        self.assertEqual(" ".join(known.pronunciations("tsf")[0])[:13], "T ER1 N S AW1")

    def test_errors_have_their_place(self):
        for wrong, reported, line in (
            (NAMES.replace("ˈwɜːlsi", "w§"), "'§'", 4),
            (NAMES.replace('"ipa"', '"x-ours"'), "x-ours", 4),
            (NAMES.replace("TSF", "T S F"), "not one word", 5),
            (NAMES.replace("<alias>Tern Sound Ferries</alias>", ""), "needs a grapheme", 5),
            (NAMES.replace("</lexicon>", ""), "not XML", 7),
            ("<words/>", "begins with <lexicon>", 1),
            ('<!DOCTYPE x [<!ENTITY a "b">]><lexicon/>', "document type", 1),
        ):
            with self.subTest(reported), self.assertRaises(LexiconError) as raised:
                read_pls(wrong)
            self.assertIn(reported, raised.exception.what)
            self.assertEqual(raised.exception.line, line)

    def test_an_assistant_s_lexicon(self):
        assistant = read_assistant({"assistant.yaml": DESK, "names.pls": NAMES})
        self.assertEqual(len(assistant.pronounced), 3)
        with self.assertRaisesRegex(InvalidFile, "names.pls"):
            read_assistant({"assistant.yaml": DESK})
        with self.assertRaisesRegex(InvalidFile, r"names.pls:4:\d+: '§'"):
            wrong = NAMES.replace("ˈwɜːlsi", "w§")
            read_assistant({"assistant.yaml": DESK, "names.pls": wrong})


class SaidAndHeard(unittest.TestCase):
    def test_voice_and_ear_go_by_it(self):
        sounds = (("wyrralsy", "G AA1 N D OW0 L"),)
        voice = Synthesizer(lexicon().with_sounds(sounds))
        (part,) = voice.speak("How much is a ticket to Wyrralsy?", "petrel")
        phrases = ("How much is a ticket to Wyrralsy?", "How much is a ticket to Pell?")
        with_it = recognizer().transcribe(part.clip, Expected(phrases, sounds=sounds))
        self.assertEqual((with_it.source, with_it.words[-1].spoken), ("expected", "wyrralsy"))
        without = recognizer().transcribe(part.clip, Expected(phrases))
        self.assertNotIn("wyrralsy", without.spoken)
        freely = recognizer().transcribe(part.clip, Expected(sounds=sounds))
        self.assertEqual(freely.words[-1].spoken, "wyrralsy")
