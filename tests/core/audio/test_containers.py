import io
import random
import struct
import unittest
import wave
from collections import Counter

import numpy as np

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import FORMATS, Limits, decode, encode
from fond_echo.core.audio.errors import (
    BrokenSound,
    EmptySound,
    SoundError,
    SoundTooLong,
    UnknownSound,
)
from fond_echo.core.audio.inspect import inspect
from fond_echo.core.audio.sniff import sniff
from fond_echo.core.audio.voicenote import encode_voice_note
from tests.sounds import in_container, tone

FOREIGN = (
    ("ogg", "libopus", 48_000),
    ("webm", "libopus", 48_000),
    ("mp3", "libmp3lame", 44_100),
    ("mp4", "aac", 44_100),
    ("amr", "libopencore_amrnb", 8_000),
    ("wav", "pcm_s16le", 22_050),
    ("wav", "pcm_mulaw", 8_000),
    ("flac", "flac", 16_000),
)


class Decoding(unittest.TestCase):
    def test_the_usual_containers(self):
        for container, codec, rate in FOREIGN:
            with self.subTest(container=container, codec=codec):
                decoded = decode(in_container(tone(1.0, rate), container, codec))
                self.assertEqual(decoded.clip.rate, rate if codec != "libopus" else 48_000)
                self.assertAlmostEqual(decoded.clip.seconds, 1.0, delta=0.1)
                middle = decoded.clip.part(0.3, 0.7)
                spectrum = np.abs(np.fft.rfft(middle.samples))
                peak = np.argmax(spectrum) * middle.rate / len(middle)
                self.assertAlmostEqual(peak, 440, delta=6)

    def test_stereo_is_averaged(self):
        data = in_container(tone(0.5, 16_000, level=0.3), "wav", "pcm_s16le", layout="stereo")
        decoded = decode(data)
        self.assertEqual(decoded.channel_count, 2)
        self.assertAlmostEqual(decoded.clip.peak, 0.3, delta=0.1)

    def test_names_and_types_are_not_believed(self):
        self.assertEqual(decode(encode(tone(), "mp3")).container.name, "MP3")

    def test_what_cannot_be_read_is_a_typed_error(self):
        wav = encode(tone(1.0, 16_000), "wav")
        picture = b"\x89PNG\r\n\x1a\n" + b"\0" * 500
        cases = (
            (b"", EmptySound),
            (b"plain words, no sound", UnknownSound),
            (picture, UnknownSound),
            (b"OggS" + b"\0" * 100, BrokenSound),
            (b"RIFF\0\0\0\0WAVE" + b"junk" * 20, SoundError),
            (b"fLaC" + bytes(64), SoundError),
            (wav[: wav.index(b"data") + 8], EmptySound),
        )
        for data, error in cases:
            with self.subTest(data=data[:12]), self.assertRaises(error) as caught:
                decode(data)
            self.assertTrue(caught.exception.what)

    def test_whatever_is_broken_in_a_file_is_a_typed_error(self):
        chance, found = random.Random(7), Counter()
        for container, codec, rate in FOREIGN:
            whole = in_container(tone(0.5, rate), container, codec)
            for _ in range(40):
                broken = bytearray(whole)
                for _ in range(chance.choice((1, 3, 20, 200))):
                    # What says how it is laid out stands at the beginning, or at the end.
                    most = chance.choice((60, 900, len(broken)))
                    place = min(chance.randrange(most), len(broken) - 1)
                    broken[place if chance.random() < 0.7 else -1 - place] = chance.randrange(256)
                if chance.random() < 0.3:
                    broken = broken[: chance.randrange(len(broken))]
                try:
                    decode(bytes(broken))
                    found["decoded"] += 1
                except SoundError as error:
                    found[error.code] += 1
        self.assertGreater(found["sound-broken"], 20, found)
        self.assertGreater(found["decoded"], 20, found)

    def test_limits(self):
        data = encode(tone(3.0, 16_000), "flac")
        for limits in (Limits(seconds=2.9), Limits(size=1_000)):
            with self.assertRaises(SoundTooLong):
                decode(data, limits)
        with self.assertRaises(SoundTooLong):
            decode(encode_voice_note(tone(3.0), 1), Limits(seconds=2.9))

    def test_values_that_are_not_numbers(self):
        target = io.BytesIO()
        target.write(b"RIFF" + struct.pack("<I", 36 + 16) + b"WAVEfmt ")
        target.write(struct.pack("<IHHIIHH", 16, 3, 1, 16_000, 64_000, 4, 32))
        target.write(
            b"data" + struct.pack("<I", 16) + np.array([0, np.nan, np.inf, 0], "<f4").tobytes()
        )
        with self.assertRaisesRegex(BrokenSound, "not finite"):
            decode(target.getvalue())

    def test_every_cut_of_a_file_is_sound_or_a_typed_error(self):
        for container, codec, rate in FOREIGN:
            data = in_container(tone(0.4, rate), container, codec)
            for cut in range(1, len(data), max(1, len(data) // 23)):
                try:
                    self.assertLessEqual(decode(data[:cut]).clip.seconds, 0.6)
                except SoundError:
                    continue


class Writing(unittest.TestCase):
    def test_each_format_comes_back(self):
        for name in FORMATS:
            with self.subTest(name=name):
                decoded = decode(encode(tone(0.7, 16_000), name))
                self.assertAlmostEqual(decoded.clip.seconds, 0.7, delta=0.06)

    def test_wav_is_plain_to_others(self):
        with wave.open(io.BytesIO(encode(tone(0.5, 16_000), "wav"))) as file:
            self.assertEqual(
                (file.getnchannels(), file.getframerate(), file.getnframes()), (1, 16_000, 8_000)
            )

    def test_refusals(self):
        with self.assertRaises(EmptySound):
            encode(Clip(np.zeros(0, np.float32), 16_000), "wav")
        with self.assertRaisesRegex(UnknownSound, "use ogg, wav"):
            encode(tone(), "aiff")


class Inspecting(unittest.TestCase):
    def test_a_proper_voice_note(self):
        report = inspect(encode_voice_note(tone(2.0, 16_000), 1))
        self.assertTrue(report.voice_note)
        self.assertEqual((report.seconds, report.pre_skip, report.granules), (2.0, 312, "valid"))
        self.assertEqual(max(report.waveform), 1.0)
        self.assertAlmostEqual(report.loudness, -14.9, delta=1.0)

    def test_what_is_wrong_and_what_to_do(self):
        note = encode_voice_note(tone(2.0), 1)
        cases = (
            (in_container(tone(1.0), "webm", "libopus"), "not Opus in Ogg"),
            (in_container(tone(1.0), "ogg", "libopus", layout="stereo"), "2 channels"),
            (note[:-400], "cut short"),
            (encode_voice_note(Clip(np.zeros(48_000, np.float32), 48_000), 1), "silent"),
        )
        for data, reason in cases:
            with self.subTest(reason=reason):
                report = inspect(data)
                self.assertFalse(report.voice_note)
                self.assertIn(reason, report.findings[0].what)
                self.assertTrue(report.findings[0].remedy)

    def test_sniffing(self):
        self.assertIsNone(sniff(b""))
        self.assertIsNone(sniff(b"\xff\xfe" + b"\0" * 10))
