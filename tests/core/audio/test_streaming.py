"""Sound written piece by piece is the sound that is written whole."""

import unittest

import numpy as np

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import decode
from fond_echo.core.audio.errors import EmptySound
from fond_echo.core.audio.inspect import inspect
from fond_echo.core.audio.streaming import MEDIA_TYPES, whole, writer_of
from fond_echo.core.telephony.media.g711 import decoded as from_law
from tests.sounds import tone


def pieces(clip, seconds):
    size = int(seconds * clip.rate)
    return [Clip(clip.samples[k : k + size], clip.rate) for k in range(0, len(clip), size)]


def written(clip, format, seconds):
    writer = writer_of(format, 7)
    return b"".join([*(writer.write(each) for each in pieces(clip, seconds)), writer.finish()])


def samples(data, format):
    if format == "mulaw":
        return from_law(data, "PCMU").astype(np.float32) / 32_768
    return decode(data).clip.samples


class Streaming(unittest.TestCase):
    def test_in_pieces_and_at_once(self):
        clip = tone(1.7, 16_000)
        for format in MEDIA_TYPES:
            for seconds in (0.13, 0.3, 5.0):
                data = written(clip, format, seconds)
                found = samples(data, format)
                expected = samples(whole(clip, format, 7), format)
                self.assertEqual(len(found), len(expected), (format, seconds))
                middle = slice(400, -400)
                error = np.abs(found[middle] - expected[middle]).max()
                self.assertLess(error, 0.05, (format, seconds))

    def test_the_first_page_of_a_voice_note_comes_early_and_the_whole_is_proper(self):
        writer = writer_of("ogg", 1)
        parts = [writer.write(each) for each in pieces(tone(2.0, 16_000), 0.25)]
        self.assertTrue(any(parts[:2]), "within half a second of sound")
        data = b"".join([*parts, writer.finish()])
        self.assertTrue(inspect(data).voice_note)

    def test_nothing_is_no_voice_note(self):
        with self.assertRaises(EmptySound):
            writer_of("ogg", 1).finish()
        with self.assertRaises(EmptySound):
            writer_of("mp3", 1).finish()


if __name__ == "__main__":
    unittest.main()
