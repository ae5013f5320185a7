"""An expected phrase is gone by only where it accounts for the speech there is."""

import unittest

import numpy as np

from bench.large_assistants import alike
from fond_echo.core.language.registry import language
from fond_echo.core.recognition.confidence import CLEARLY, contradicted, word_fit
from fond_echo.core.recognition.grammar_decoding import FoundWord
from fond_echo.core.recognition.leftover import LEAST, uncovered
from fond_echo.core.recognition.symbols import BLANK
from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.heard import as_heard, later
from fond_echo.speech.material import recognizer
from tests.sounds import speech, with_noise

EXPECTED = Expected(
    ("How much is a ticket?", "Is it too windy to sail?", "I lost something on the boat.",
     "When is the next boat to Pell?", "Let me hear the horn."),
    names=("Pell",),
)  # fmt: skip


def heard(text, expected=EXPECTED, spoil=lambda clip: clip, voice="tern"):
    return recognizer().transcribe(spoil(speech(text, voice)), expected)


def noisy(clip):
    return with_noise(clip, 10.0)


class Beside(unittest.TestCase):
    def test_what_is_said_after_a_phrase_is_heard_recorded_and_lowers_the_confidence(self):
        for text, words in (
            ("How much is a ticket to Pell tomorrow?", "pell tomorrow"),
            ("I lost something on the boat with my grandmother.", "grandmother"),
            ("Let me hear the horn at half past nine in the evening.", "half past nine"),
        ):
            for spoil in (lambda clip: clip, noisy):
                found = heard(text, spoil=spoil)
                self.assertEqual(found.source, "dictation", text)
                (rest,) = found.uncovered
                self.assertGreater(rest.end, rest.start + 0.3)
                self.assertLess(found.confidence, 0.97)
                (whole, *_) = found.alternatives
                self.assertTrue(whole.expected)
                self.assertLess(whole.confidence, found.confidence)
                if spoil is not noisy:
                    self.assertIn(words, found.spoken)

    def test_what_is_said_before_a_phrase(self):
        found = heard("After the concert my sister asked, is it too windy to sail?")
        self.assertEqual(found.source, "dictation")
        self.assertIn("sister", found.spoken)
        self.assertTrue(found.spoken.endswith("is it too windy to sail"), found.spoken)

    def test_greetings_and_thanks_belong_to_any_request(self):
        for text in ("Um, how much is a ticket, please?", "Hello, is it too windy to sail?",
                     "I lost something on the boat, thank you."):  # fmt: skip
            for spoil in (lambda clip: clip, noisy):
                found = heard(text, spoil=spoil)
                self.assertEqual((found.source, found.uncovered), ("expected", ()), text)

    def test_a_whole_one_stays_whole(self):
        for text in EXPECTED.phrases:
            for voice in ("petrel", "eider", "curlew"):
                for spoil in (lambda clip: clip, noisy):
                    found = heard(text, spoil=spoil, voice=voice)
                    self.assertEqual((found.source, found.uncovered), ("expected", ()), text)

    def test_it_is_recorded_and_moves_with_its_piece(self):
        whole = as_heard(heard("How much is a ticket to Pell tomorrow?"), "en")
        (rest,) = whole.uncovered
        (moved,) = later(whole, 30.0).uncovered
        self.assertEqual(
            (moved.start, moved.end), (round(rest.start + 30, 2), round(rest.end + 30, 2))
        )

    def test_where_nothing_else_can_be_said_nothing_is_looked_for(self):
        only = Expected(EXPECTED.phrases, only=True)
        found = heard("How much is a ticket to Pell tomorrow?", only)
        self.assertEqual((found.spoken, found.uncovered), ("how much is a ticket", ()))


class Frames(unittest.TestCase):
    def test_only_what_sounds_before_and_after_counts(self):
        logs = np.full((60, 40), -8.0, np.float32)
        logs[:, BLANK] = -0.01
        words = [FoundWord("boat", 20, 30), FoundWord("bell", 40, 50)]
        self.assertEqual(uncovered(words, logs), [])
        for place in (32, 34, 36, 38):  # between words: what a grammar allows there
            logs[place, 5] = 0.0
        for place in range(2, 2 + 2 * (LEAST - 1), 2):
            logs[place, 5] = 0.0
        self.assertEqual(uncovered(words, logs), [])
        logs[12, 7] = 0.0
        (rest,) = uncovered(words, logs)
        self.assertEqual((rest.start, rest.end, rest.sounding), (0, 16, LEAST))
        self.assertEqual(uncovered([], logs), [])


class Contradicted(unittest.TestCase):
    def test_a_word_that_clearly_was_another_one(self):
        clear = np.log(np.full((8, 40), 0.001, np.float32))
        clear[:, 3] = np.log(0.96)
        mumbled = np.log(np.full((8, 40), 0.01, np.float32))
        mumbled[:, 3] = np.log(CLEARLY - 0.2)
        self.assertTrue(contradicted(word_fit(-8.0 * 3, clear, 4)))
        self.assertFalse(contradicted(word_fit(-1.0, clear, 4)))
        self.assertFalse(contradicted(word_fit(-8.0 * 3, mumbled, 4)), "it may have been this")

    def test_more_phrases_take_no_more_of_what_is_none(self):
        examples = [text for texts in alike(300) for text in texts]
        known = set(examples)
        others = [next(t for t in texts if t not in known) for texts in alike(12, seed=77)]
        expected = Expected((*examples, *language().everywhere))
        for text in others:
            found = recognizer().transcribe(speech(text, "dunlin"), expected)
            self.assertNotEqual(found.source, "expected", (text, found.spoken))
        for text in examples[::180]:
            found = recognizer().transcribe(speech(text, "dunlin"), expected)
            self.assertEqual(found.source, "expected", text)
