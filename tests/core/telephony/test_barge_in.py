"""Who speaks while we do: a caller is noticed; our own sound come back, noise and somebody at the
next table are not."""

import unittest
from functools import lru_cache

import numpy as np
from scipy import signal

from fond_echo.core.audio.resample import at_rate
from fond_echo.core.telephony.conversation.barge_in import BargeInDetector, level_of
from fond_echo.core.telephony.conversation.echo import EchoEstimate
from tests.sounds import speech

FRAME, RATE = 160, 8_000
PROMPT = "Good evening, you have reached the bakery. Say which bread you would like us to keep."


@lru_cache(maxsize=8)
def said(text, voice, level):
    """Speech at 8 kHz, 16 bits, at an RMS."""
    sound = at_rate(speech(text, voice), RATE).samples.astype(np.float64) * 32_767
    return sound * (level / level_of(sound.astype(np.int16)))


def room(sent, decibels, delay):
    """What comes back of it, so many dB below and seconds later, with a tail."""
    taps = np.random.default_rng(4).standard_normal(600) * np.exp(-np.arange(600) / 90)
    taps[0] = 3.0
    back = signal.fftconvolve(sent, taps)[: len(sent)]
    back *= 10 ** (decibels / 20) * np.sqrt(np.square(sent).sum() / np.square(back).sum())
    return np.concatenate([np.zeros(round(delay * RATE)), back])[: len(sent)]


def frames(samples):
    whole = np.clip(samples, -32_768, 32_767).astype(np.int16)
    return whole[: len(whole) // FRAME * FRAME].reshape(-1, FRAME)


class BargeIn(unittest.TestCase):
    def setUp(self):
        self.sent = np.concatenate([np.zeros(800), said(PROMPT, "tern", 3_900.0), np.zeros(4_000)])
        self.hiss = np.random.default_rng(1).normal(0, 12, len(self.sent))

    def noticed(self, got, detector=None):
        """The frame in which somebody is taken to speak; None where nobody is."""
        detector = detector or BargeInDetector()
        detector.reset()
        for number, (ours, theirs) in enumerate(
            zip(frames(self.sent), frames(got + self.hiss), strict=True)
        ):
            if detector.feed(ours, theirs):
                return number
        return None

    def over(self, got, level, at=2.0):
        """The same, with a caller who begins at a time."""
        line = said("I would like to talk to a human being", "curlew", level)
        mixed, first = np.array(got), round(at * RATE)
        mixed[first : first + len(line)] += line[: len(mixed) - first]
        return mixed

    def test_our_own_sound_come_back_is_nobody(self):
        for decibels, delay in ((-6, 0.1), (-12, 0.04), (-12, 0.4), (-20, 0.2), (-30, 0.1)):
            with self.subTest(decibels=decibels, delay=delay):
                self.assertIsNone(self.noticed(room(self.sent, decibels, delay)))

    def test_a_caller_is_noticed_soon_with_an_echo_and_without(self):
        quiet = np.zeros(len(self.sent))
        for got, level, within in (
            (quiet, 1_500.0, 0.3), (quiet, 500.0, 0.4), (room(self.sent, -20, 0.1), 1_600.0, 0.6),
            (room(self.sent, -12, 0.2), 4_000.0, 0.6),
        ):  # fmt: skip
            with self.subTest(level=level):
                found = self.noticed(self.over(got, level))
                self.assertIsNotNone(found)
                self.assertTrue(2.0 <= 0.02 * found <= 2.0 + within, 0.02 * found)

    def test_noise_is_nobody(self):
        noise = np.random.default_rng(2).normal(0, 500, len(self.sent))
        low = signal.sosfilt(signal.butter(2, 350, "low", fs=RATE, output="sos"), 4 * noise)
        sets_in = np.where(np.arange(len(noise)) > 2 * RATE, noise, 0)
        for name, got in (("hiss", noise), ("wind", low), ("sets in", sets_in)):
            with self.subTest(name):
                self.assertIsNone(self.noticed(got))

    def test_who_is_much_softer_than_a_known_caller_is_somebody_else(self):
        got = self.over(np.zeros(len(self.sent)), 180.0)
        self.assertIsNotNone(self.noticed(got))
        knowing = BargeInDetector()
        knowing.knows(2_000.0)
        self.assertIsNone(self.noticed(got, knowing))
        self.assertEqual(BargeInDetector().least_to_listen, 0.0)
        self.assertAlmostEqual(knowing.least_to_listen, 2_000 * 10 ** (-12 / 20))
        # A louder one is taken for the caller from then on.
        knowing.knows(100.0)
        knowing.knows(5_000.0)
        self.assertEqual(knowing.least_to_listen, 1_000.0)

    def test_what_comes_when_nothing_of_ours_may_come_back_is_not_held_to_be_ours(self):
        detector = BargeInDetector()
        silence = np.zeros(FRAME, np.int16)
        for ours in frames(self.sent):
            detector.feed(ours, silence)
        self.assertTrue(detector.feed(silence, silence) is False)
        for _ in range(40):
            detector.feed(silence, silence)
        self.assertFalse(detector.may_be_echo)

    def test_frames_taken_together_say_what_they_say_one_by_one(self):
        got = frames(room(self.sent, -20, 0.1) + self.hiss)[:161]
        each, together = EchoEstimate(), EchoEstimate()
        for number, (ours, theirs) in enumerate(zip(frames(self.sent), got, strict=False)):
            each.keep(ours, theirs)
            each.take(0.3, 0.3)
            each.learn(0.3, 0.3)
            together.keep(ours, theirs)
            if number % 7 == 6:
                together.take(0.3, 0.3)
                for name in ("got", "expected", "noise"):
                    kept = getattr(together, name)
                    np.testing.assert_allclose(kept, getattr(each, name), rtol=0.01, err_msg=name)
                together.learn(0.3, 0.3)
        self.assertEqual(each.active, together.active)
        self.assertGreater(each.most, 0)
        self.assertAlmostEqual(together.most / each.most, 1.0, places=2)
