"""What is varied in training: how unevenly an utterance is said, and each example as it is read."""

import unittest

import numpy as np

from fond_echo.core.recognition.features import BANDS, normalized
from fond_echo.core.synthesis.segments import Segment, plan
from fond_echo.core.synthesis.speaker import Speaker
from fond_echo.core.synthesis.tracks import build
from training import variation
from training.delivery import uneven
from training.variation import FRAMES_A_SYMBOL, varied

SAID = [("S", "IY1"), ("DH", "AH0"), ("M", "UW1", "N")]


def said(seed=1):
    """A short utterance between silences: its segments and its tracks."""
    rng, speaker = np.random.default_rng(seed), Speaker()
    quiet = Segment("silence", "", 0.1)
    segments = [quiet, *plan(SAID, speaker, rng), quiet]
    return segments, build(segments, speaker, rng)


def example(frames=120, peak=30):
    """Energies with one peak along frequency, in a floor; half of the frames say something."""
    logs = np.full((frames, BANDS), -12.0, np.float16)
    logs[frames // 4 : -frames // 4, peak - 1 : peak + 2] = -3.0
    labels = np.zeros(frames, np.uint8)
    labels[frames // 4 : -frames // 4] = 7
    return logs, labels


class Delivery(unittest.TestCase):
    def test_it_can_be_made_again_and_stays_a_voice(self):
        segments, tracks = said()
        for seed in range(40):
            first, second = (uneven(tracks, segments, np.random.default_rng(seed)) for _ in "ab")
            np.testing.assert_array_equal(first.voicing, second.voicing)
            for each in (first.voicing, first.aspiration, first.frication, first.noise_gains):
                self.assertTrue(np.isfinite(each).all())
                self.assertGreaterEqual(float(each.min()), 0.0)
            self.assertEqual(first.formants.shape, tracks.formants.shape)
            self.assertGreaterEqual(float(first.pitch.min()), 55.0)
            self.assertLessEqual(float(first.pitch.max()), 450.0)
            self.assertGreater(float(first.bandwidths.min()), 0.0)

    def test_phrases_mostly_die_away(self):
        segments, tracks = said()
        voiced = np.flatnonzero(tracks.voicing > 0.2)
        last, middle = voiced[-16:], voiced[len(voiced) // 3 : len(voiced) // 2]
        drops = []
        for seed in range(60):
            made = uneven(tracks, segments, np.random.default_rng(seed))
            ratio = made.voicing / np.maximum(tracks.voicing, 1e-9)
            drops.append(20 * np.log10(ratio[last].mean() / ratio[middle].mean()))
        self.assertLess(np.median(drops), -2.0)
        self.assertGreater(np.ptp(drops), 10.0)

    def test_what_moves_are_the_formants_that_tell_vowels(self):
        segments, tracks = said()
        moved = []
        for seed in range(20):
            made = uneven(tracks, segments, np.random.default_rng(seed))
            np.testing.assert_array_equal(made.formants[:, 3:], tracks.formants[:, 3:])
            moved.append(np.abs(np.log(made.formants[:, :3] / tracks.formants[:, :3])).max())
        self.assertGreater(max(moved), 0.05)
        self.assertLess(max(moved), 0.4)

    def test_there_is_air_in_voices_and_hisses_keep_their_colour(self):
        segments, tracks = said()
        hissing = tracks.noise_gains.max(axis=1) > 1e-3
        voiced = ~hissing & (tracks.voicing > 0.3)
        self.assertTrue(hissing.any() and voiced.any())
        airy = 0
        for seed in range(40):
            made = uneven(tracks, segments, np.random.default_rng(seed))
            np.testing.assert_array_equal(made.noise_gains[hissing], tracks.noise_gains[hissing])
            airy += float(np.mean(made.frication[voiced] > tracks.frication[voiced])) > 0.8
        self.assertGreater(airy, 15)
        self.assertLess(airy, 38)


class Variation(unittest.TestCase):
    def test_features_and_labels_stay_together(self):
        logs, labels = example()
        noises = [example()[0]]
        lengths = set()
        for seed in range(60):
            rng = np.random.default_rng(seed)
            found, named = varied(logs, labels, 8, noises, [logs], rng)
            self.assertEqual((len(found), found.shape[1]), (len(named), BANDS))
            self.assertTrue(np.isfinite(found).all())
            self.assertEqual(set(np.unique(named)), {0, 7})
            lengths.add(len(found))
        self.assertGreater(len(lengths), 5)

    def test_nothing_is_hurried_past_what_can_be_aligned(self):
        logs, labels = example(frames=100)
        for seed in range(60):
            found, _ = varied(logs, labels, 30, [], [], np.random.default_rng(seed))
            self.assertGreater(len(found), 30 * FRAMES_A_SYMBOL - 1)

    def test_many_talk_where_one_pauses(self):
        logs, _ = example()
        quiet = np.full_like(logs, -15.0)
        voices = [example()[0] for _ in range(3)]
        rng = np.random.default_rng(4)
        made = variation._with_noise(
            quiet.astype(np.float32), variation._babble(voices, len(quiet), rng), rng
        )
        # It lies 2 to 26 dB below what it is laid under, and rises above it nowhere by more.
        self.assertGreater(float((made - quiet).max()), 0.001)
        self.assertLess(float((made - quiet).max()), 4.0)
        self.assertEqual(made.shape, quiet.shape)

    def test_some_stay_as_they_are(self):
        logs, labels = example()
        plain = normalized(logs.astype(np.float32))
        same = 0
        for seed in range(200):
            found, _ = varied(logs, labels, 8, [], [], np.random.default_rng(seed))
            same += found.shape == plain.shape and bool(np.allclose(found, plain, atol=1e-3))
        # 45 in a hundred, six of ten of which get no colour, seven of ten nothing blanked.
        self.assertTrue(20 < same < 60, same)

    def test_another_vocal_tract_moves_the_peak(self):
        logs = example()[0].astype(np.float32)
        peaks = {
            int(variation._stretched(logs, np.random.default_rng(seed))[60].argmax())
            for seed in range(40)
        }
        self.assertGreater(len(peaks), 4)
        self.assertTrue(all(24 <= peak <= 48 for peak in peaks), peaks)
        self.assertGreater(max(peaks), 42, "some as of very short tracts")

    def test_a_field_is_smooth_and_as_large_as_it_should_be(self):
        sizes = []
        for seed in range(40):
            made = variation._field(200, 9, np.random.default_rng(seed))
            self.assertEqual(made.shape, (200, BANDS))
            sizes.append(made.std())
            self.assertLess(np.abs(np.diff(made, axis=0)).max(), 1.2)
            self.assertLess(np.abs(np.diff(made, axis=1)).max(), 1.2)
        self.assertAlmostEqual(float(np.mean(sizes)), 0.65, delta=0.15)

    def test_what_is_moved_is_moved_a_little_and_not_everywhere_alike(self):
        logs = example(frames=200)[0].astype(np.float32)
        wandered = 0
        for seed in range(30):
            moved = variation._moved(logs, np.random.default_rng(seed))
            peaks = moved[60:140].argmax(axis=1)
            self.assertTrue((np.abs(peaks - 30) <= 6).all(), peaks)
            wandered += len(set(peaks.tolist())) > 1
            self.assertLessEqual(moved.max(), logs.max() + 1e-3)
        self.assertGreater(wandered, 10)

    def test_above_the_edge_nothing_is_left_but_the_quiet(self):
        rng = np.random.default_rng(4)
        logs = rng.normal(-4.0, 0.3, (100, BANDS)).astype(np.float32)
        logs[:20] -= 6.0
        for seed in range(20):
            narrowed = variation._narrowed(logs, np.random.default_rng(seed))
            np.testing.assert_allclose(narrowed[20:, :30], logs[20:, :30], atol=0.05)
            self.assertLessEqual(narrowed[50:, -1].mean(), logs[50:, -1].mean() + 0.05)
        edges = {
            int((variation._narrowed(logs, np.random.default_rng(s))[60] > -6).sum())
            for s in range(30)
        }
        self.assertGreater(len(edges), 8)

    def test_pace_is_uneven_and_each_label_stays_with_its_frame(self):
        logs = np.repeat(np.arange(200, dtype=np.float32)[:, None], BANDS, axis=1)
        labels = np.arange(200)
        steps = set()
        for seed in range(20):
            paced, named = variation._paced(logs, labels, 5, np.random.default_rng(seed))
            self.assertTrue((np.diff(paced[:, 0]) >= 0).all())
            self.assertLessEqual(np.abs(paced[:, 0] - named).max(), 1.0)
            steps.update(np.round(np.diff(paced[:, 0]), 1).tolist())
        self.assertGreater(len(steps), 8)
        same, _ = variation._paced(logs, labels, 190, np.random.default_rng(1))
        self.assertIs(same, logs)

    def test_blurring_keeps_the_power_and_sharpening_deepens_the_valleys(self):
        logs = example()[0].astype(np.float32)
        inside = slice(40, 80)
        for seed in range(20):
            blurred = variation._blurred(logs, np.random.default_rng(seed))
            np.testing.assert_allclose(
                np.exp(blurred[inside]).sum(), np.exp(logs[inside]).sum(), rtol=1e-3
            )
            self.assertLessEqual(blurred[60].max(), logs[60].max() + 1e-3)
            sharpened = variation._sharpened(logs, np.random.default_rng(seed))
            self.assertGreater(np.ptp(sharpened[60]), np.ptp(logs[60]))


if __name__ == "__main__":
    unittest.main()
