"""Whatever comes, there is a typed outcome, and never words out of nothing."""

import unittest

import numpy as np

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import decode, encode
from fond_echo.core.audio.errors import SoundError
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.material import recognizer
from tests.sounds import in_container, noise, silence_of, speech, tone

PHRASES = ("When is the next boat to Pell?", "Speak to a person.", "Yes.", "No.")
RATE = 16_000


def music(seconds=6.0):
    """Chords that are struck and die away, over a bass."""
    clock = np.arange(int(seconds * RATE)) / RATE
    made = np.zeros(len(clock))
    for place, root in enumerate((220.0, 174.6, 261.6, 196.0) * 3):
        since = clock - place * 0.5
        struck = np.where(since >= 0, np.exp(-3 * np.maximum(since, 0)), 0)
        for tone_, level in ((1, 0.5), (1.26, 0.3), (1.5, 0.3), (2, 0.2), (0.5, 0.4)):
            for harmonic in (1, 2, 3):
                made += (
                    struck * level / harmonic * np.sin(2 * np.pi * root * tone_ * harmonic * clock)
                )
    return Clip((0.1 * made).astype(np.float32), RATE)


def keys():
    """Telephone keys."""
    clock = np.arange(int(0.12 * RATE)) / RATE
    parts = []
    for low, high in ((697, 1_209), (770, 1_336), (852, 1_477), (941, 1_336)):
        pair = np.sin(2 * np.pi * low * clock) + np.sin(2 * np.pi * high * clock)
        parts += [0.3 * pair, np.zeros(int(0.1 * RATE))]
    return Clip(np.concatenate(parts).astype(np.float32), RATE)


class Nothing(unittest.TestCase):
    def test_no_words_where_nothing_was_said(self):
        clipped = Clip(np.clip(noise(3).samples * 40, -1, 1).astype(np.float32), RATE)
        steps = Clip(np.repeat([0.0, 1.0, -1.0, 0.0], RATE // 2).astype(np.float32), RATE)
        sounds = {
            "silence": silence_of(3), "nothing at all": silence_of(0), "noise": noise(4),
            "clipped noise": clipped, "a tone": tone(3, RATE), "keys": keys(), "music": music(),
            "a millisecond": tone(0.001, RATE), "one sample": Clip(np.ones(1, np.float32), RATE),
            "steps": steps, "hum": tone(4, RATE, 50.0), "a hiss at 192 kHz": noise(1, 192_000),
            "noise at 4 kHz": noise(3, 4_000),
        }  # fmt: skip
        for name, clip in sounds.items():
            for expected in (Expected(), Expected(PHRASES)):
                with self.subTest(name, expected=bool(expected.phrases)):
                    heard = recognizer().transcribe(clip, expected)
                    self.assertEqual((heard.words, heard.source), ((), "nothing"), heard.written)


class Odd(unittest.TestCase):
    def test_speech_at_odd_rates_and_channels(self):
        clip = speech(PHRASES[0], "petrel")
        for rate in (8_000, 11_025, 44_100, 192_000):
            heard = recognizer().transcribe(at_rate(clip, rate), Expected(PHRASES))
            self.assertEqual(heard.written, PHRASES[0], rate)
        six = in_container(at_rate(clip, 48_000), "wav", "pcm_s16le", layout="5.1")
        heard = recognizer().transcribe(decode(six).clip, Expected(PHRASES))
        self.assertEqual(heard.written, PHRASES[0])
        # Half of what is said lies above what 4 kHz can hold: it may be heard, or refused.
        poor = recognizer().transcribe(at_rate(clip, 4_000), Expected(PHRASES))
        self.assertIn(poor.source, ("expected", "dictation", "nothing"))

    def test_clipped_and_quiet_speech(self):
        clip = speech(PHRASES[0], "tern")
        for gain in (0.003, 12.0):
            spoilt = Clip(np.clip(clip.samples * gain, -1, 1).astype(np.float32), RATE)
            heard = recognizer().transcribe(spoilt, Expected(PHRASES))
            self.assertEqual(heard.written, PHRASES[0], gain)

    def test_numbers_that_are_none(self):
        samples = speech(PHRASES[0]).samples.copy()
        samples[1_000:1_100] = np.nan
        samples[2_000] = np.inf
        with self.assertRaises(SoundError):
            recognizer().transcribe(Clip(samples, RATE), Expected(PHRASES))

    def test_files_that_break_off(self):
        for form in ("wav", "flac", "mp3", "ogg"):
            whole = encode(speech(PHRASES[0], "petrel"), form)
            for part in (0.02, 0.3, 0.9):
                data = whole[: int(len(whole) * part)]
                try:
                    heard = recognizer().transcribe(decode(data).clip, Expected(PHRASES))
                except SoundError as error:
                    self.assertTrue(error.what)
                    continue
                self.assertIn(heard.source, ("expected", "dictation", "nothing"))
