import unittest

import numpy as np
from scipy.signal import lfilter

from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.level import loudness
from fond_echo.core.synthesis.errors import NothingToSay, UnknownVoice
from fond_echo.core.synthesis.filters import render
from fond_echo.core.synthesis.segments import Segment
from fond_echo.core.synthesis.speaker import VOICES, Speaker
from fond_echo.core.synthesis.targets import HILLENBRAND, PETERSON_BARNEY
from fond_echo.core.synthesis.tracks import build
from fond_echo.speech.material import synthesizer


def resonances(clip: Clip, count: int) -> list[float]:
    """Formants by linear prediction (autocorrelation method), in Hz, lowest first."""
    samples = lfilter([1, -0.97], [1], clip.samples) * np.hamming(len(clip))
    order = 18
    r = np.correlate(samples, samples, "full")[len(samples) - 1 :][: order + 1]
    matrix = r[np.abs(np.subtract.outer(range(order), range(order)))]
    roots = np.roots(np.concatenate(([1.0], -np.linalg.solve(matrix, r[1:]))))
    roots = roots[np.imag(roots) > 0.01]
    hertz = np.angle(roots) * clip.rate / (2 * np.pi)
    width = -np.log(np.abs(roots)) * clip.rate / np.pi
    return sorted(f for f, w in zip(hertz, width, strict=True) if f > 200 and w < 500)[:count]


class Vowels(unittest.TestCase):
    def test_formants_are_where_they_were_asked(self):
        speaker = Speaker(jitter=0, shimmer=0, breath=0, tilt=0.1, pitch=100, pitch_range=0)
        for vowel in ("IY", "EH", "AE", "AA", "UH"):
            with self.subTest(vowel=vowel):
                rng = np.random.default_rng(1)
                segments = [Segment("vowel", vowel, 0.5, "1", 0)]
                sound = Clip(render(build(segments, speaker, rng), speaker, rng), 16_000)
                requested = (np.array(HILLENBRAND[vowel]) + np.array(PETERSON_BARNEY[vowel])) / 2
                found = np.array(resonances(sound.part(0.15, 0.4), 3))
                self.assertLess(float(np.max(np.abs(found - requested) / requested)), 0.12)


class Speaking(unittest.TestCase):
    def test_every_voice_speaks_at_one_loudness_without_clipping(self):
        text = "The boat to Little Marrow leaves at quarter past nine, weather permitting."
        for voice in VOICES:
            with self.subTest(voice=voice):
                clip = join([part.clip for part in synthesizer().speak(text, voice)])
                self.assertAlmostEqual(loudness(clip), -18.0, delta=1.5)
                self.assertLess(clip.peak, 0.9)
                self.assertGreater(clip.seconds, 3.0)

    def test_comes_in_parts_with_words_and_times(self):
        parts = list(synthesizer().speak("Good morning. The boat is late, I am afraid.", "petrel"))
        self.assertEqual([[mark.word for mark in part.marks] for part in parts],
                         [["good", "morning"], ["the", "boat", "is", "late"], ["i", "am", "afraid"]])  # fmt: skip
        for part in parts:
            times = [time for mark in part.marks for time in (mark.start, mark.end)]
            self.assertEqual(times, sorted(times))
            self.assertLessEqual(times[-1], part.clip.seconds)

    def test_is_repeatable_and_varies_with_the_seed(self):
        def said(seed):
            return join(
                [part.clip for part in synthesizer().speak("Hello.", "tern", seed=seed)]
            ).samples

        np.testing.assert_array_equal(said(None), said(None))
        self.assertFalse(np.array_equal(said(1)[:2_000], said(2)[:2_000]))

    def test_pitch_follows_the_voice(self):
        low, high = (self.pitch(voice) for voice in ("guillemot", "sanderling"))
        self.assertTrue(70 < low < 110 and 200 < high < 320, (low, high))

    def pitch(self, voice):
        clip = next(synthesizer().speak("Mammal", voice)).clip
        middle = clip.part(0.15, 0.35).samples
        r = np.correlate(middle, middle, "full")[len(middle) - 1 :]
        return 16_000 / (45 + int(np.argmax(r[45:230])))

    def test_long_text_without_punctuation_is_cut_into_breaths(self):
        parts = list(synthesizer().speak("boat " * 130, "tern"))
        self.assertEqual(sum(len(part.marks) for part in parts), 130)
        self.assertGreater(len(parts), 3)

    def test_refusals(self):
        with self.assertRaisesRegex(UnknownVoice, "whimbrel"):
            synthesizer().speak("Hello", "parrot")
        with self.assertRaises(NothingToSay):
            synthesizer().speak("?!", "tern")
