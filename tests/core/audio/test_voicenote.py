import io
import unittest

import av
import numpy as np

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.errors import BrokenSound, EmptySound
from fond_echo.core.audio.opus import OpusHead, OpusTags, packet_samples
from fond_echo.core.audio.voicenote import (
    VoiceNoteWriter,
    decode_opus,
    encode_voice_note,
    read_opus,
)
from tests.sounds import noise, speech, tone


class Length(unittest.TestCase):
    def test_read_back_sample_for_sample(self):
        for count in (1, 100, 647, 648, 649, 959, 960, 961, 4_800, 47_999, 48_000, 48_001, 144_007):
            with self.subTest(count=count):
                data = encode_voice_note(Clip(np.zeros(count, np.float32) + 0.1, 48_000), 1)
                stream = read_opus(data)
                self.assertEqual(stream.samples, count)
                self.assertEqual(len(decode_opus(stream)), count)
                self.assertTrue(stream.steady and stream.complete)

    def test_two_minutes_are_many_pages(self):
        data = encode_voice_note(Clip(np.zeros(120 * 48_000, np.float32), 48_000), 1)
        self.assertEqual(read_opus(data).samples, 120 * 48_000)
        self.assertGreater(data.count(b"OggS"), 50)

    def test_another_decoder_agrees(self):
        clip = tone(1.2345)
        with av.open(io.BytesIO(encode_voice_note(clip, 5))) as source:
            count = sum(frame.samples for frame in source.decode(audio=0))
        self.assertEqual(count, len(clip))

    def test_an_empty_clip_is_a_typed_error(self):
        with self.assertRaises(EmptySound):
            encode_voice_note(Clip(np.zeros(0, np.float32), 16_000), 1)


class Sound(unittest.TestCase):
    def test_is_where_it_was(self):
        clip = speech("The next boat to Pell leaves at noon.")
        decoded = decode_opus(read_opus(encode_voice_note(clip, 1)))
        original = np.repeat(clip.samples, 3)[: len(decoded)]
        shifts = [
            float(np.dot(np.roll(original, shift), decoded.samples))
            for shift in range(-400, 401, 8)
        ]
        self.assertLess(abs(range(-400, 401, 8)[int(np.argmax(shifts))]), 24)

    def test_written_in_pieces_is_the_same_as_at_once(self):
        samples = noise(3.3, 48_000).samples
        writer = VoiceNoteWriter(1)
        pieces = [writer.write(samples[k : k + 5_001]) for k in range(0, len(samples), 5_001)]
        self.assertGreater(sum(map(len, pieces)), 0, "pages come out before the end")
        self.assertEqual(
            b"".join(pieces) + writer.finish(), encode_voice_note(Clip(samples, 48_000), 1)
        )


class Foreign(unittest.TestCase):
    def test_a_file_that_is_cut_short_says_so(self):
        stream = read_opus(encode_voice_note(tone(3.0), 1)[:-300])
        self.assertFalse(stream.complete)
        self.assertLess(stream.seconds, 3.0)

    def test_what_is_not_opus_is_refused(self):
        for data in (b"", b"OggS", b"x" * 5_000):
            with self.subTest(data=data[:4]), self.assertRaises(BrokenSound):
                read_opus(data)

    def test_headers_come_back(self):
        head = OpusHead(2, 3_840, 44_100, -256)
        tags = OpusTags("someone", ("TITLE=a note", "é=ü"))
        self.assertEqual(OpusHead.from_bytes(head.to_bytes()), head)
        self.assertEqual(OpusTags.from_bytes(tags.to_bytes()), tags)

    def test_broken_headers_are_refused(self):
        for packet in (b"", b"OpusHead", OpusHead(0, 312).to_bytes(), b"OpusHead\x10" + b"\1" * 10):
            with self.subTest(packet=packet), self.assertRaises(BrokenSound):
                OpusHead.from_bytes(packet)
        with self.assertRaises(BrokenSound):
            OpusTags.from_bytes(b"OpusTags\xff\xff\xff\xff")

    def test_packet_lengths_follow_the_first_byte(self):
        for first, samples in ((0x00, 480), (0x18, 2_880), (0x60, 480), (0xF8, 960), (0xF9, 1_920)):
            self.assertEqual(packet_samples(bytes([first])), samples)
        self.assertEqual(packet_samples(bytes([0xFB, 3])), 2_880)
        for packet in (b"", bytes([0xFB]), bytes([0xFB, 0]), bytes([0xFB, 63])):
            with self.assertRaises(BrokenSound):
                packet_samples(packet)
