"""Where somebody speaks, and what is but tones."""

import unittest

import numpy as np

from fond_echo.core.audio.activity import speech_spans, tonal
from fond_echo.core.audio.clip import Clip, join
from tests.sounds import noise, silence_of, speech, tone

RATE = 16_000


def keys(pause=0.1):
    """Telephone keys: each two tones."""
    clock = np.arange(round(0.12 * RATE)) / RATE
    quiet = np.zeros(round(pause * RATE))
    parts = []
    for low, high in ((697, 1_209), (770, 1_336), (852, 1_477), (941, 1_336)):
        parts += [0.3 * np.sin(2 * np.pi * low * clock) + 0.3 * np.sin(2 * np.pi * high * clock),
                  quiet]  # fmt: skip
    return Clip(np.concatenate(parts).astype(np.float32), RATE)


class Tones(unittest.TestCase):
    def test_keys_and_beeps(self):
        for clip in (tone(1.0, RATE), tone(0.2, 48_000, 1_000.0), keys(), keys(0.05)):
            self.assertTrue(tonal(clip))

    def test_speech_and_noise_are_more(self):
        for words in ("two", "oh", "no", "who are you", "When is the next boat to Pell?"):
            for voice in ("sanderling", "guillemot"):
                self.assertFalse(tonal(speech(words, voice)), (words, voice))
        self.assertFalse(tonal(noise(1.0)))

    def test_a_beep_before_speech_leaves_speech(self):
        self.assertFalse(tonal(join([tone(0.4, RATE), speech("When is the next boat?", "tern")])))

    def test_nothing(self):
        for clip in (silence_of(1.0), silence_of(0.0), tone(0.001, RATE)):
            self.assertFalse(tonal(clip))


class Spans(unittest.TestCase):
    def test_words_stand_out_with_a_margin(self):
        clip = join([silence_of(1.0), speech("The boat is late.", "tern"), silence_of(1.0)])
        hum = noise(clip.seconds, level=0.0005)
        (span,) = speech_spans(Clip(clip.samples + hum.samples[: len(clip)], RATE))
        self.assertGreater(span.start, 0.7)
        self.assertLess(span.end, clip.seconds - 0.6)

    def test_what_never_changes_is_background(self):
        self.assertEqual(speech_spans(noise(2.0)), [])
        self.assertEqual(speech_spans(silence_of(2.0)), [])

    def test_words_apart_are_spans_apart(self):
        word = speech("Boat.", "petrel")
        found = speech_spans(join([word, silence_of(1.2), word]))
        self.assertEqual(len(found), 2)
        self.assertLess(found[0].end, found[1].start)


if __name__ == "__main__":
    unittest.main()
