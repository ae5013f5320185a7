"""A long file a little at a time."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from fond_echo.core.audio.blocks import blocks
from fond_echo.core.audio.containers import decode, encode
from fond_echo.core.audio.errors import BrokenSound, EmptySound, UnknownSound
from fond_echo.core.audio.resample import at_rate
from tests.sounds import tone


class Blocks(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "sound"

    def read(self, data, rate=16_000):
        self.file.write_bytes(data)
        return list(blocks(self.file, rate))

    def test_together_they_are_the_sound(self):
        for form in ("wav", "flac", "mp3", "ogg"):
            data = encode(tone(5.3), form)
            found = self.read(data)
            whole = at_rate(decode(data).clip, 16_000).samples
            joined = np.concatenate(found)
            self.assertGreaterEqual(len(found), 5)
            self.assertLess(max(map(len, found)), 20_000)
            self.assertAlmostEqual(len(joined) / 16_000, 5.3, delta=0.06)
            count = min(len(joined), len(whole)) - 2_000
            if form != "ogg":
                np.testing.assert_allclose(joined[2_000:count], whole[2_000:count], atol=2e-3)

    def test_errors_are_told_as_for_a_whole_file(self):
        with self.assertRaises(EmptySound):
            self.read(b"")
        with self.assertRaises(UnknownSound):
            self.read(b"no sound at all, only words " * 10)
        with self.assertRaises(BrokenSound):
            self.read(encode(tone(1.0), "flac")[:60])
