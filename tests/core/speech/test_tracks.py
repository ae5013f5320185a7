"""From timed segments to parameter tracks, and from tracks to samples."""

import unittest
from dataclasses import replace

import numpy as np

from fond_echo.core.synthesis.filters import MAX_FORMANT_HZ, render
from fond_echo.core.synthesis.segments import Segment
from fond_echo.core.synthesis.speaker import Speaker
from fond_echo.core.synthesis.tracks import FORMANTS, FRAME, FRAMES_PER_SECOND, build, smoothed

QUIET = Segment("silence", "", 0.1)
STEADY = Speaker(jitter=0, shimmer=0, breath=0, pitch=110, pitch_range=0, wander=0.0)


def vowel(phoneme="AA", seconds=0.2, stress="1"):
    return Segment("vowel", phoneme, seconds, stress, 0)


def tracks(*segments, speaker=STEADY, melody="fall", seed=1):
    return build([QUIET, *segments, QUIET], speaker, np.random.default_rng(seed), melody=melody)


def at(track, seconds):
    """The value so far into what is said."""
    return track[round((0.1 + seconds) * FRAMES_PER_SECOND)]


class Smoothing(unittest.TestCase):
    def test_it_keeps_length_mean_and_edges(self):
        values = np.concatenate([np.zeros(50), np.ones(50)])
        smooth = smoothed(values, 10)
        self.assertEqual(len(smooth), 100)
        self.assertAlmostEqual(smooth.sum(), values.sum(), places=6)
        np.testing.assert_allclose((smooth[0], smooth[-1]), (0.0, 1.0), atol=1e-9)
        self.assertTrue((np.diff(smooth) >= -1e-12).all())
        self.assertIs(smoothed(values, 1), values)


class Tracks(unittest.TestCase):
    def test_one_value_every_two_and_a_half_milliseconds(self):
        made = tracks(vowel(seconds=0.3))
        self.assertEqual(len(made.voicing), int(0.5 * FRAMES_PER_SECOND) + 1)
        for track in (made.formants, made.bandwidths, made.noise_gains):
            self.assertEqual(track.shape, (len(made.voicing), FORMANTS))

    def test_voice_is_where_a_vowel_is(self):
        made = tracks(vowel(seconds=0.3))
        self.assertGreater(at(made.voicing, 0.15), 0.7)
        self.assertLess(made.voicing[5], 0.01)
        self.assertLess(made.voicing[-5], 0.01)

    def test_stress_is_louder(self):
        strong, weak = tracks(vowel(stress="1")), tracks(vowel(stress="0"))
        self.assertGreater(at(strong.voicing, 0.1), at(weak.voicing, 0.1))

    def test_formants_rise_in_order_and_move_to_the_next_sound(self):
        made = tracks(vowel("IY"), Segment("glide", "W", 0.08), vowel("AA"))
        self.assertTrue((np.diff(made.formants[:, :5], axis=1) > 0).all())
        self.assertGreater(at(made.formants, 0.1)[1], 1_900)
        self.assertLess(at(made.formants, 0.24)[1], 1_200)
        steps = np.abs(np.diff(made.formants[:, 1]))
        self.assertLess(steps.max(), 150)

    def test_a_small_speaker_has_higher_formants(self):
        large, small = (
            tracks(vowel(), speaker=replace(STEADY, formant_scale=scale)).formants
            for scale in (1.0, 1.3)
        )
        np.testing.assert_allclose(small, 1.3 * large, rtol=1e-6)

    def test_each_kind_of_consonant_has_its_source(self):
        hiss = tracks(vowel(), Segment("friction", "S", 0.12), vowel())
        self.assertGreater(at(hiss.frication, 0.26), 0.05)
        self.assertLess(at(hiss.voicing, 0.26), 0.1)
        both = tracks(vowel(), Segment("friction", "V", 0.12), vowel())
        self.assertGreater(at(both.voicing, 0.26), 0.3)
        nose = tracks(vowel(), Segment("nasal", "N", 0.12), vowel())
        self.assertGreater(at(nose.nasal, 0.26), 0.5)
        self.assertLess(at(nose.nasal, 0.05), 0.05)
        shut = tracks(vowel(), Segment("closure", "B", 0.12), vowel())
        self.assertLess(at(shut.voicing, 0.26), 0.3)
        self.assertGreater(at(shut.voicing, 0.26), at(
            tracks(vowel(), Segment("closure", "P", 0.12), vowel()).voicing, 0.26))  # fmt: skip

    def test_a_statement_falls_and_a_question_rises(self):
        lively = replace(STEADY, pitch_range=6)
        falls, rises = (
            tracks(
                vowel(seconds=0.5), speaker=lively, melody="rise" if asks else "fall", seed=4
            ).pitch
            for asks in (False, True)
        )
        self.assertLess(at(falls, 0.48), at(falls, 0.1))
        self.assertGreater(at(rises, 0.48), at(rises, 0.15))
        for pitch in (falls, rises):
            self.assertTrue(((pitch >= 55) & (pitch <= 450)).all())

    def test_nothing_but_silence(self):
        made = build([QUIET], STEADY, np.random.default_rng(1))
        self.assertEqual(float(made.voicing.max()), 0.0)
        self.assertEqual(float(np.abs(render(made, STEADY, np.random.default_rng(1))).max()), 0.0)


class Samples(unittest.TestCase):
    def sound(self, made, speaker=STEADY, seed=1):
        return render(made, speaker, np.random.default_rng(seed))

    def test_forty_samples_a_frame_and_the_same_again(self):
        made = tracks(vowel(seconds=0.3))
        first, again = self.sound(made), self.sound(made)
        self.assertEqual(len(first), FRAME * len(made.voicing))
        np.testing.assert_array_equal(first, again)

    def test_the_pitch_is_heard(self):
        made = tracks(vowel(seconds=0.5))
        samples = self.sound(replace(made, pitch=np.full_like(made.pitch, 125.0)))[4_000:8_000]
        likeness = np.correlate(samples, samples, "full")[len(samples) - 1 :]
        self.assertAlmostEqual(80 + int(np.argmax(likeness[80:200])), 128, delta=2)

    def test_formants_beyond_the_highest_do_not_ring(self):
        for scale in (1.0, 1.4, 1.62):
            speaker = replace(STEADY, formant_scale=scale)
            samples = self.sound(tracks(vowel("IY", 0.4), speaker=speaker), speaker)
            self.assertTrue(np.isfinite(samples).all())
            self.assertLess(float(np.abs(samples).max()), 2.0)
        self.assertLess(MAX_FORMANT_HZ, 8_000)

    def test_a_hiss_lies_high_and_a_vowel_low(self):
        def centre(samples):
            power = np.abs(np.fft.rfft(samples)) ** 2
            return float((power * np.fft.rfftfreq(len(samples), 1 / 16_000)).sum() / power.sum())

        hiss = self.sound(tracks(Segment("friction", "S", 0.3)))[2_400:5_600]
        low = self.sound(tracks(vowel(seconds=0.3)))[2_400:5_600]
        self.assertGreater(centre(hiss), 4_000)
        self.assertLess(centre(low), 1_500)

    def test_bright_lifts_what_is_high(self):
        made = tracks(vowel(seconds=0.3))
        dull, bright = (
            np.abs(np.fft.rfft(self.sound(made, replace(STEADY, bright=much)))) ** 2
            for much in (0, 3)
        )
        half = len(dull) // 2
        self.assertGreater(bright[half:].sum() / bright.sum(), 2 * dull[half:].sum() / dull.sum())


if __name__ == "__main__":
    unittest.main()
