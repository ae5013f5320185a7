"""Packets, keys, tones, uneven arrival, and how it sounds."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from fond_echo.core.telephony import g711
from fond_echo.core.telephony.errors import MalformedPacket
from fond_echo.core.telephony.jitter import FRAME, JitterBuffer
from fond_echo.core.telephony.keys import KeyReceiver, key_packets, read_event
from fond_echo.core.telephony.quality import opinion, rated
from fond_echo.core.telephony.rtp import (
    Reception,
    Report,
    Rtcp,
    RtpPacket,
    ntp,
    read_rtcp,
    read_rtp,
)
from fond_echo.core.telephony.tones import KEYS, RATE, ToneReceiver, tone
from tests.sounds import speech


class G711(unittest.TestCase):
    def test_every_code_comes_back(self):
        codes = bytes(range(256))
        for law in ("PCMU", "PCMA"):
            samples = g711.decoded(codes, law)
            back = g711.encoded(samples, law)
            # The mu law has a zero of either sign.
            self.assertLessEqual(sum(a != b for a, b in zip(codes, back, strict=True)), 1)
            self.assertTrue((g711.decoded(back, law) == samples).all())
            self.assertEqual(
                g711.encoded(np.zeros(3, np.int16), law), bytes([g711.SILENCE[law]] * 3)
            )

    def test_known_values(self):
        self.assertEqual(g711.decoded(b"\x00\x80\xff", "PCMU").tolist(), [-32124, 32124, 0])
        self.assertEqual(g711.decoded(b"\x2a\xaa\xd5", "PCMA").tolist(), [-32256, 32256, 8])

    def test_against_a_well_known_codec(self):
        import av

        samples = (10_000 * np.sin(np.arange(1_600) / 7)).astype(np.int16)
        for law, name in (("PCMU", "pcm_mulaw"), ("PCMA", "pcm_alaw")):
            codec = av.CodecContext.create(name, "w")
            codec.sample_rate, codec.layout, codec.format = 8_000, "mono", "s16"
            frame = av.AudioFrame.from_ndarray(samples[None], "s16", "mono")
            frame.sample_rate = 8_000
            theirs = b"".join(bytes(each) for each in [*codec.encode(frame), *codec.encode(None)])
            ours = g711.encoded(samples, law)
            difference = np.abs(g711.decoded(ours, law).astype(int) - g711.decoded(theirs, law))
            self.assertLessEqual(difference.max(), 512)
            self.assertGreater((difference == 0).mean(), 0.98)


class Packets(unittest.TestCase):
    packet = RtpPacket(0, 65_535, 4_294_967_290, 77, b"boat", True)

    def test_there_and_back(self):
        self.assertEqual(read_rtp(self.packet.to_bytes()), self.packet)
        data = self.packet.to_bytes()
        extended = (
            bytes([data[0] | 0x10 | 1]) + data[1:12] + b"csrc" + b"\xbe\xde\x00\x01extd" + b"boat"
        )
        self.assertEqual(read_rtp(extended).payload, b"boat")
        padded = bytes([data[0] | 0x20]) + data[1:] + b"\0\0\3"
        self.assertEqual(read_rtp(padded).payload, b"boat")
        for bad in (b"", data[:11], b"\x00" + data[1:], bytes([data[0] | 0x20]) + data[1:] + b"\xff", bytes([data[0] | 0x0F]) + data[1:],
                    bytes([0x80, 200]) + bytes(20)):  # fmt: skip
            with self.assertRaises(MalformedPacket):
                read_rtp(bad)

    def test_reports_there_and_back(self):
        report = Report(5, 12, -3, 70_000, 9, 1, 2)
        for sent in (None, (ntp(1_700_000_000.5), 160, 8, 1_280)):
            packet = Rtcp(7, sent, (report,), "isla@quay", True)
            self.assertEqual(read_rtcp(packet.to_bytes()), packet)
        for bad in (
            b"",
            b"\x80",
            b"\x81\xc9\0\1\0\0\0\7",
            b"\x80\xca\0\0",
            b"\x00\xc9\0\1\0\0\0\7",
        ):
            with self.assertRaises(MalformedPacket):
                read_rtcp(bad)

    @settings(max_examples=200, deadline=None)
    @given(st.binary(max_size=80))
    def test_whatever_comes_it_is_read_or_refused(self, data):
        for read in (read_rtp, read_rtcp):
            try:
                read(data)
            except MalformedPacket:
                continue

    def test_what_was_lost_and_how_uneven_it_was(self):
        seen = Reception(77, 8_000)
        for number in range(65_500, 65_700):
            if number % 10:
                packet = RtpPacket(0, number & 0xFFFF, number * 160 & 0xFFFFFFFF, 77, b"")
                seen.count(packet, number * 0.02 + (0.005 if number % 2 else 0.0))
        report = seen.report()
        self.assertEqual((seen.expected, seen.lost), (199, 19))
        self.assertAlmostEqual(report.lost_share / 256, 19 / 199, delta=0.01)
        self.assertAlmostEqual(seen.jitter / 8, 5.0, delta=1.0)
        self.assertEqual(seen.report().lost_share, 0, "nothing since")
        self.assertEqual(seen.extended(3), 0x20003, "the numbers have turned over once")


class Keys(unittest.TestCase):
    def test_each_key_once(self):
        receiver, found = KeyReceiver(), []
        begin = RtpPacket(101, 65_533, 1_000, 7, b"")
        for place, key in enumerate("12*#D1"):
            packets = key_packets(key, RtpPacket(101, 10 * place, 1_000 * place, 7, b""))
            for number, (_, packet) in enumerate(packets):
                if (number + place) % 3 == 0:
                    continue
                found += filter(None, [receiver.receive(packet), receiver.receive(packet)])
        self.assertEqual("".join(found), "12*#D1")
        numbers = [packet.sequence for _, packet in key_packets("5", begin)]
        self.assertEqual(numbers, [65_533, 65_534, 65_535, 0, 1, 2, 3, 4])
        last = read_event(key_packets("5", begin)[-1][1].payload)
        self.assertEqual((last.key, last.over, last.duration), ("5", True, 800))
        self.assertIsNone(read_event(b"\x20\0\0\0"))
        with self.assertRaises(MalformedPacket):
            read_event(b"1")

    def test_tones_are_heard_through_the_law_and_noise(self):
        chance = np.random.default_rng(3)
        for law in ("PCMU", "PCMA"):
            sound = [np.zeros(800, np.int16)]
            for key in KEYS:
                level = chance.uniform(-25, -3)
                sound += [tone(key, chance.uniform(0.05, 0.1), level), np.zeros(600, np.int16)]
            whole = np.concatenate(sound)
            noisy = (whole + chance.normal(0, 20, len(whole))).astype(np.int16)
            through = g711.decoded(g711.encoded(noisy, law), law)
            receiver, heard = ToneReceiver(), []
            for start in range(0, len(through), 160):
                heard += receiver.feed(through[start : start + 160])
            self.assertEqual("".join(heard), KEYS)

    def test_speech_is_no_key(self):
        receiver = ToneReceiver()
        for text, voice in (
            ("Three, one, four, one, five, nine, two, six, five.", "plover"),
            ("Oh, we owe you, Leigh.", "tern"),
        ):
            from fond_echo.core.audio.resample import at_rate

            clip = at_rate(speech(text, voice), RATE)
            samples = np.clip(clip.samples * 32_767, -32_768, 32_767).astype(np.int16)
            self.assertEqual(receiver.feed(samples), [])


def voice(frames):
    """A buzz at 125 Hz, in frames."""
    time = np.arange(frames * FRAME) / 8_000
    wave = sum(np.sin(2 * np.pi * 125 * k * time) / k for k in range(1, 12))
    return (4_000 * wave).astype(np.int16).reshape(frames, FRAME)


class Uneven(unittest.TestCase):
    def play(self, arrivals, frames, seconds):
        """Frames arrive at times (by their number); what is played every 20 ms."""
        buffer, played = JitterBuffer(), []
        waiting = sorted((at, number) for number, at in arrivals.items())
        for tick in range(int(seconds / 0.02)):
            now = tick * 0.02
            while waiting and waiting[0][0] <= now:
                at, number = waiting.pop(0)
                buffer.put(number, frames[number], at)
            played.append(buffer.take())
        return buffer, np.array(played)

    def test_even_packets_come_out_whole_and_soon(self):
        frames = voice(100)
        buffer, played = self.play({n: n * 0.02 + 0.001 for n in range(100)}, frames, 2.1)
        self.assertEqual((buffer.played, buffer.lost, buffer.late), (100, 0, 0))
        first = next(n for n, frame in enumerate(played) if frame.any())
        self.assertLessEqual(first, 3)
        self.assertTrue((played[first : first + 100] == frames).all())

    def test_uneven_and_disordered_packets_are_held_back_and_ordered(self):
        chance = np.random.default_rng(1)
        frames = voice(500)
        arrivals = {n: n * 0.02 + chance.uniform(0, 0.07) for n in range(500)}
        buffer, _ = self.play(arrivals, frames, 10.3)
        self.assertGreaterEqual(buffer.target, 4)
        self.assertLess(buffer.late + buffer.lost, 20)

    def test_a_gap_is_filled_with_the_voice_and_no_click(self):
        frames = voice(60)
        arrivals = {n: n * 0.02 for n in range(60) if n not in (30, 31)}
        buffer, played = self.play(arrivals, frames, 1.3)
        self.assertEqual(buffer.lost, 2)
        sound = played.astype(float).ravel()
        start = next(n for n, frame in enumerate(played) if frame.any())
        gap = sound[(start + 30) * FRAME : (start + 32) * FRAME]
        usual = np.abs(np.diff(frames.astype(float).ravel())).max()
        self.assertGreater(np.sqrt((gap**2).mean()), 1_000)
        around = sound[(start + 29) * FRAME : (start + 34) * FRAME]
        self.assertLess(np.abs(np.diff(around)).max(), 1.3 * usual)

    def test_a_third_lost_is_lived_through(self):
        chance = np.random.default_rng(2)
        frames = voice(500)
        arrivals = {n: n * 0.02 for n in range(500) if chance.random() > 0.3}
        buffer, _ = self.play(arrivals, frames, 10.0)
        self.assertGreater(buffer.played, 300)

    def test_a_sender_that_begins_anew_and_one_whose_clock_runs_away(self):
        buffer = JitterBuffer()
        frames = voice(40)
        for n in range(20):
            buffer.put(70_000 + n, frames[n], n * 0.02)
            buffer.take()
        for n in range(20):
            buffer.put(65_600 + n, frames[n], 1 + n * 0.02)
        self.assertTrue(any(buffer.take().any() for _ in range(5)))
        for n in range(2_000):
            buffer.put(80_000 + n, frames[n % 40], 2.0)
        self.assertLessEqual(buffer.held, 80)


class HowItSounds(unittest.TestCase):
    def test_by_loss_and_delay(self):
        clean = rated("PCMU", loss=0.0, jitter_ms=1, delay_ms=40)
        self.assertGreater(clean.rating, 90)
        self.assertGreater(clean.opinion, 4.3)
        ratings = [
            rated("PCMU", loss=share, jitter_ms=5, delay_ms=60).rating
            for share in (0, 0.01, 0.05, 0.3)
        ]
        self.assertEqual(ratings, sorted(ratings, reverse=True))
        self.assertLess(rated("PCMA", loss=0.0, jitter_ms=1, delay_ms=500).rating, 60)
        self.assertEqual((opinion(-5), opinion(120)), (1.0, 4.5))
        self.assertGreaterEqual(rated("PCMU", loss=1.0, jitter_ms=0, delay_ms=9_000).rating, 0.0)
