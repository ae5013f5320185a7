"""Sound that goes on: words while they are said, ends of utterances, and what must never be words."""

import unittest
from unittest.mock import patch

import numpy as np

from fond_echo.core.audio.clip import join
from fond_echo.core.recognition.hearing import Hearing, Partial, Utterance
from fond_echo.core.recognition.recognizer import Recognizer
from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.material import recognizer
from tests.sounds import noise, silence_of, speech, tone, with_noise

STEP = 320


def fed(hearing, clip, step=STEP):
    """What is found, with how many seconds had been fed."""
    found = []
    for start in range(0, len(clip), step):
        found += [
            (start / 16_000, each) for each in hearing.feed(clip.samples[start : start + step])
        ]
    return found


def utterances(found):
    return [each.transcript.spoken for _, each in found if isinstance(each, Utterance)]


class Streams(unittest.TestCase):
    def test_words_come_while_they_are_said_and_the_end_is_found(self):
        question = speech("I would like to book a table for two people tomorrow.", "petrel")
        found = fed(Hearing(recognizer()), join([question, silence_of(2.0)]))
        partials = [each.text for _, each in found if isinstance(each, Partial)]
        self.assertGreater(len(partials), 3)
        self.assertTrue(partials[-1].startswith("i would like to book"), partials[-1])
        ((at, end),) = [item for item in found if isinstance(item[1], Utterance)]
        self.assertFalse(end.truncated)
        self.assertAlmostEqual(at, question.seconds + 0.6, delta=0.35)
        whole = recognizer().transcribe(question)
        self.assertEqual(end.transcript.spoken, whole.spoken)

    def test_two_utterances_with_their_times(self):
        first, second = speech("The boat is late.", "tern"), speech("What time is it?", "curlew")
        gap = silence_of(1.5)
        hearing = Hearing(recognizer())
        found = fed(hearing, join([gap, first, gap, second, gap]))
        self.assertEqual(utterances(found), ["the boat is late", "what time is it"])
        (_, one), (_, two) = [item for item in found if isinstance(item[1], Utterance)]
        self.assertAlmostEqual(one.transcript.words[0].start, 1.55, delta=0.15)
        began = 3.0 + first.seconds
        self.assertAlmostEqual(two.transcript.words[0].start, began, delta=0.2)
        self.assertEqual(hearing.finish(), [])

    def test_times_are_right_after_a_long_silence(self):
        clip = join([silence_of(9.0), speech("The boat is late.", "tern"), silence_of(1.0)])
        ((_, end),) = [x for x in fed(Hearing(recognizer()), clip) if isinstance(x[1], Utterance)]
        self.assertAlmostEqual(end.transcript.words[0].start, 9.0, delta=0.16)

    def test_where_the_network_is_unsure_an_utterance_is_read_again_as_a_whole(self):
        clip = join([silence_of(1.2), speech("The boat is late.", "tern"), silence_of(1.0)])
        whole = patch.object(
            Recognizer, "probabilities_of", autospec=True, side_effect=Recognizer.probabilities_of
        )
        for longest, times in ((330, 1), (10, 0)):
            with (
                patch("fond_echo.core.recognition.hearing.unsure", return_value=True),
                patch("fond_echo.core.recognition.hearing.MAX_AGAIN", longest),
                whole as again,
            ):
                found = fed(Hearing(recognizer()), clip)
            ((_, end),) = [x for x in found if isinstance(x[1], Utterance)]
            self.assertEqual(end.transcript.spoken, "the boat is late")
            self.assertAlmostEqual(end.transcript.words[0].start, 1.25, delta=0.16)
            self.assertEqual(again.call_count, times)

    def test_what_is_expected_is_held_against_first(self):
        expected = Expected(("Speak to a person.", "When is the next boat to Pell?"))
        found = fed(
            Hearing(recognizer(), expected), join([speech("Speak to a person."), silence_of(1)])
        )
        (_, end) = found[-1]
        self.assertEqual((end.transcript.source, end.transcript.spoken),
                         ("expected", "speak to a person"))  # fmt: skip

    def test_where_only_that_can_be_said_nothing_else_is_told(self):
        expected = Expected(("Speak to a person.", "When is the next boat to Pell?"), only=True)
        clip = join([speech("I want to speak to some person."), silence_of(1)])
        ((_, end),) = fed(Hearing(recognizer(), expected), clip)
        self.assertEqual((end.transcript.source, end.transcript.spoken),
                         ("expected", "speak to a person"))  # fmt: skip

    def test_a_pause_within_a_number_is_not_its_end(self):
        parts = [speech("Zero one six three two.", "petrel"), silence_of(0.9),
                 speech("nine six zero one four seven.", "petrel"), silence_of(2.0)]  # fmt: skip
        found = utterances(fed(Hearing(recognizer()), join(parts)))
        self.assertEqual(len(found), 1, found)
        self.assertGreaterEqual(len(found[0].split()), 10)
        words = [speech("The boat is late.", "petrel"), silence_of(0.9),
                 speech("What time is it?", "petrel"), silence_of(2.0)]  # fmt: skip
        self.assertEqual(len(utterances(fed(Hearing(recognizer()), join(words)))), 2)

    def test_the_end_is_found_in_noise_too(self):
        clip = with_noise(join([speech("I am waiting for my brother."), silence_of(2.5)]), 12)
        found = fed(Hearing(recognizer()), clip)
        self.assertEqual(utterances(found)[:1], ["i am waiting for my brother"])

    def test_too_long_is_cut_and_goes_on(self):
        clip = join([speech("The boat to Brannick leaves at ten past four today.")] * 5)
        found = fed(Hearing(recognizer(), max_seconds=4.0, end_seconds=2.0), clip)
        ends = [each for _, each in found if isinstance(each, Utterance)]
        self.assertTrue(ends and all(each.truncated for each in ends))

    def test_all_at_once_or_a_bit_at_a_time(self):
        clip = join([speech("The boat is late."), silence_of(1.5), speech("What time is it?"),
                     silence_of(1.5)])  # fmt: skip
        whole = [each.transcript.spoken for each in Hearing(recognizer()).feed(clip.samples)
                 if isinstance(each, Utterance)]  # fmt: skip
        self.assertEqual(whole, ["the boat is late", "what time is it"])

    def test_what_is_no_speech_is_no_words(self):
        for clip in (silence_of(4), noise(4), tone(4.0, 16_000), tone(0.001, 16_000)):
            hearing = Hearing(recognizer())
            found = fed(hearing, clip) + [(0, each) for each in hearing.finish()]
            self.assertEqual(utterances(found), [])
        broken = np.full(8_000, np.nan, np.float32)
        self.assertEqual(Hearing(recognizer()).feed(broken), [])

    def test_memory_does_not_grow_with_silence(self):
        hearing = Hearing(recognizer())
        for _ in range(12):
            hearing.feed(noise(4.0).samples)
        self.assertLess(sum(map(len, hearing._logs)), 1_200)
        self.assertAlmostEqual(hearing.seconds, 48, delta=0.1)
