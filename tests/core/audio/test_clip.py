import itertools
import unittest

import numpy as np

from fond_echo.core.audio.activity import pieces, speech_spans, trimmed
from fond_echo.core.audio.clip import Clip, join, silence
from fond_echo.core.audio.columns import resized, scaled
from fond_echo.core.audio.errors import BrokenSound
from fond_echo.core.audio.level import from_first_sound, loudness, normalized
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.audio.waveform import heights
from tests.sounds import noise, speech, tone


class Clips(unittest.TestCase):
    def test_refuses_what_is_not_mono_finite_sound(self):
        for samples, rate in (
            (np.zeros((2, 5), np.float32), 16_000),
            (np.array([np.nan], np.float32), 16_000),
            (np.zeros(5, np.float32), 10),
        ):
            with self.assertRaises(BrokenSound):
                Clip(samples, rate)

    def test_parts_and_joins(self):
        clip = tone(1.0, 16_000)
        self.assertEqual(len(join([clip.part(0, 0.25), clip.part(0.25, 9)])), len(clip))
        self.assertEqual(len(clip.part(-1, 0.5)), 8_000)
        with self.assertRaises(BrokenSound):
            join([clip, silence(1, 8_000)])


class Resampling(unittest.TestCase):
    def test_length_and_pitch_stay(self):
        for rate in (8_000, 16_000, 44_100, 48_000, 192_000):
            clip = at_rate(tone(1.0, 48_000), rate)
            self.assertEqual(len(clip), rate)
            self.assertEqual(int(np.argmax(np.abs(np.fft.rfft(clip.samples)))), 440)

    def test_nothing_above_the_new_half_rate_comes_back(self):
        self.assertLess(at_rate(tone(1.0, 48_000, hertz=7_000), 8_000).part(0.1, 0.9).peak, 0.001)


class Level(unittest.TestCase):
    def test_reference_tone(self):
        """EBU Tech 3341 case 1: a 1 kHz sine at −23 dBFS in both channels reads −23 LUFS; in one
        channel it reads 3 dB less."""
        clip = tone(5.0, 48_000, hertz=1_000, level=10 ** (-23 / 20))
        self.assertAlmostEqual(loudness(clip), -26.0, delta=0.1)

    def test_brought_to_the_target_or_as_far_as_the_peak_allows(self):
        self.assertAlmostEqual(loudness(normalized(tone(2.0, level=0.01))), -18.0, delta=0.1)
        click = np.zeros(48_000, np.float32)
        click[::4_800] = 0.9
        self.assertLessEqual(normalized(Clip(click, 48_000), target=0).peak, 0.892)

    def test_short_sound_gets_the_fixed_gain(self):
        short = tone(0.2)
        self.assertIsNone(loudness(short))
        self.assertAlmostEqual(normalized(short, short_gain=-6.0).peak, 0.15, delta=0.002)
        self.assertIsNone(loudness(silence(2, 16_000)))

    def test_from_the_first_sound_on(self):
        hum = tone(0.3, 16_000, level=0.001)
        clip = from_first_sound(join([hum, tone(0.5, 16_000, level=0.3)]))
        self.assertAlmostEqual(clip.seconds, 0.505, delta=0.001)
        whole = from_first_sound(clip)
        self.assertAlmostEqual(whole.seconds, clip.seconds, delta=0.001)
        self.assertEqual(len(from_first_sound(hum)), len(hum), "nothing is to be heard in it")
        self.assertEqual(len(from_first_sound(silence(0, 16_000))), 0)


class Activity(unittest.TestCase):
    def test_speech_is_found_where_it_is(self):
        words = speech("Good morning.")
        clip = join([noise(0.8, level=0.002), words, noise(1.2, level=0.002)])
        (span,) = speech_spans(clip)
        self.assertAlmostEqual(span.start, 0.8, delta=0.15)
        self.assertAlmostEqual(span.end, 0.8 + words.seconds, delta=0.25)
        cut, start = trimmed(clip)
        self.assertEqual((cut.seconds, start), (span.seconds, span.start))

    def test_no_speech_in_silence_or_steady_sound(self):
        for clip in (silence(2, 16_000), noise(2), tone(2.0, 16_000), silence(0, 16_000)):
            self.assertEqual(speech_spans(clip), [])
            self.assertEqual(trimmed(clip)[1], 0.0)

    def test_pieces_cover_everything_and_cut_in_pauses(self):
        words = speech("The boat leaves at noon.")
        clip = join([words, silence(0.6, 16_000)] * 12)
        found = pieces(clip, 10.0)
        self.assertEqual((found[0].start, found[-1].end), (0.0, clip.seconds))
        for before, after in itertools.pairwise(found):
            self.assertEqual(before.end, after.start)
            self.assertLess(clip.part(before.end - 0.02, before.end + 0.02).peak, 0.02)
        self.assertLessEqual(max(span.seconds for span in found), 10.0)


class Waveforms(unittest.TestCase):
    def test_shape_follows_the_sound(self):
        clip = join([silence(1, 16_000), tone(1.0, 16_000)])
        values = heights(clip, 10)
        self.assertEqual(values[:5], [0.0] * 5)
        self.assertGreater(min(values[5:]), 0.98)

    def test_degenerate_sound_still_has_every_column(self):
        for clip in (silence(0, 16_000), silence(1, 16_000), tone(0.0001, 16_000)):
            self.assertEqual(len(heights(clip, 64)), 64)

    def test_resizing_and_scaling(self):
        self.assertEqual(resized([0.1, 0.9, 0.2, 0.3], 2), [0.9, 0.3])
        self.assertEqual(len(resized([0.5, 1.0], 7)), 7)
        self.assertEqual(scaled([0.0, 0.5, 1.0], 0, 31), [0, 16, 31])
