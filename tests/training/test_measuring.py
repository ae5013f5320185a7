"""What figures are made of: fitted confidences, the list of people's recordings, tests of the recognizer."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from bench.people import LIST, best_of, recordings, through_telephone
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.recognition.confidence import CLOSED, chance
from fond_echo.core.recognition.transcript import Alternative, Expected, Transcript
from tests.sounds import speech
from training.calibrate import Sample, closely, counted, fitted, inside
from training.testing import digit_network

NOTHING = Transcript((), "", 0.0, "nothing", 0.0)


def samples(weights, count=4_000, seed=3):
    """Measures with whether they were right, as often as the weights say."""
    rng = np.random.default_rng(seed)
    found = []
    for _ in range(count):
        measures = tuple(float(each) for each in rng.normal(0, 1, len(weights) - 1))
        found.append(Sample(measures, bool(rng.random() < chance(weights, measures))))
    return found


class Fitting(unittest.TestCase):
    def test_what_made_the_chances_is_found_again(self):
        true = (0.5, 2.0, 0.8, -1.0)
        for found, wanted in zip(fitted(samples(true), 2), true, strict=True):
            self.assertAlmostEqual(found, wanted, delta=0.25)

    def test_more_of_what_must_make_surer_never_makes_less_sure(self):
        found = fitted(samples((0.0, -1.5, 1.0)), 1)
        self.assertEqual(found[1], 0.0)
        self.assertGreater(found[2], 0.5)
        self.assertLess(fitted(samples((0.0, -1.5, 1.0)), 0)[1], -1.0)

    def test_measures_of_any_size_fit_as_well(self):
        small = []
        for each in samples((0.2, 1.0, 0.5)):
            a, b = each.measures
            small.append(Sample((a / 1_000, b), each.right))
        found = fitted(small, 2)
        self.assertAlmostEqual(found[1] / 1_000, 1.0, delta=0.25)

    def test_what_counts_more_is_kept_to_more(self):
        one, other = samples((2.0, 1.0)), samples((-2.0, 1.0), seed=4)
        many = [Sample(each.measures, each.right, counts=9.0) for each in one]
        self.assertGreater(fitted(many + other, 1)[0], 0.8)
        self.assertAlmostEqual(fitted(one + other, 1)[0], 0.0, delta=0.15)


class Readings(unittest.TestCase):
    def test_what_is_known_of_a_closed_reading(self):
        clip = at_rate(speech("Four pounds.", "petrel"), 16_000)
        said = ("four", "pounds")
        expected = Expected(("Four pounds.", "Speak to a person."))
        ((right,), (other,), (wrong,)) = (
            closely(clip, expected, said, True, 2.0),
            closely(clip, expected, said, False),
            closely(clip, Expected(network=digit_network()), said, False),
        )
        self.assertEqual((right.right, right.inside, right.counts), (True, True, 2.0))
        self.assertEqual((other.right, other.inside), (False, False))
        self.assertEqual(other.measures, right.measures)
        self.assertGreater(right.measures[0], wrong.measures[0] + 1)
        self.assertGreater(chance(CLOSED, right.measures), 0.8)
        self.assertLess(chance(CLOSED, wrong.measures), 0.3)
        self.assertEqual(closely(Clip(np.zeros(400, np.float32), 16_000), expected, said, True), [])
        self.assertEqual(inside([right, other]), [right])
        self.assertEqual([each.counts for each in counted([right, other], 3.0)], [6.0, 3.0])


class People(unittest.TestCase):
    def test_each_set_says_what_is_said_where(self):
        rows = [line.split("\t") for line in LIST.read_text().splitlines()]
        self.assertEqual(rows[0], ["set", "package", "file", "said"])
        counts = {}
        for name, _, file, said in rows[1:]:
            counts[name] = counts.get(name, 0) + 1
            self.assertRegex(said, r"^[a-z' ]+$")
            self.assertFalse(file.startswith("/"))
        self.assertEqual(
            counts, {"words": 72, "letters": 26, "animals": 65, "shouts": 385, "places": 8}
        )
        self.assertEqual(len({(row[1], row[2]) for row in rows[1:]}), 556)

    def test_only_what_is_there_is_read(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.assertEqual(recordings(folder), {})
        file = folder / "alsa-utils" / "usr/share/sounds/alsa/Front_Left.wav"
        file.parent.mkdir(parents=True)
        file.write_bytes(encode(speech("Front left.", "tern"), "wav"))
        (found,) = recordings(folder)["places"]
        self.assertEqual((found.said, found.clip().rate), ("front left", 16_000))
        self.assertEqual(list(recordings(folder)), ["places"])

    def test_the_best_reading_taken_or_not(self):
        self.assertEqual(best_of(NOTHING), "")
        others = (Alternative("front left", 0.3), Alternative("front right", 0.2))
        refused = Transcript((), "from left", 0.4, "dictation", 1.0, others)
        self.assertEqual(best_of(refused), "front left")

    def test_through_a_telephone_nothing_is_left_above_its_band(self):
        noise = np.random.default_rng(1).normal(0, 0.1, 16_000).astype(np.float32)
        heard = through_telephone(Clip(noise, 16_000))
        powers = np.abs(np.fft.rfft(heard.samples)) ** 2
        self.assertLess(powers[4_100:].sum(), 0.01 * powers.sum())


if __name__ == "__main__":
    unittest.main()
