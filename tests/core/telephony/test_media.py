"""Packets, keys, tones, uneven arrival, and how it sounds."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from fond_echo.core.telephony.errors import MalformedPacket
from fond_echo.core.telephony.media import g711
from fond_echo.core.telephony.media.jitter import FRAME, JitterBuffer
from fond_echo.core.telephony.media.quality import mos, rated
from fond_echo.core.telephony.media.reframing import Reframer
from fond_echo.core.telephony.media.rtp import (
    Reception,
    Report,
    Rtcp,
    RtpPacket,
    ntp,
    read_rtcp,
    read_rtp,
)
from fond_echo.core.telephony.media.stream import Identity, Stream
from fond_echo.core.telephony.media.telephone_events import KeyReceiver, key_packets, read_event
from fond_echo.core.telephony.media.tones import KEYS, RATE, ToneReceiver, tone
from fond_echo.core.telephony.sip.sdp import PCMU, Agreed
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
            ("Three, one, four, one, five, nine, two, six, five.", "whimbrel"),
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


class Lengths(unittest.TestCase):
    """Packets of other than 20 ms."""

    def frames(self, length, numbers, start=1_000):
        """What comes out of packets that count up, sample by sample."""
        reframer = Reframer()
        found = []
        for number in numbers:
            samples = np.arange(number * length, (number + 1) * length).astype(np.int16)
            found += reframer.put(start + number, samples)
        return found

    def test_every_sample_comes_once_in_its_place(self):
        for length in (80, 160, 240, 320, 480):
            found = self.frames(length, range(30))
            places = [place for place, _ in found]
            self.assertEqual(places, list(range(places[0], places[0] + len(places))), length)
            sound = np.concatenate([frame for _, frame in found])
            self.assertGreaterEqual(len(sound), 30 * length - 160)
            begun = int(sound[0])
            np.testing.assert_array_equal(sound, np.arange(begun, begun + len(sound)))

    def test_half_frames_in_any_order_and_one_that_never_comes(self):
        numbers = [0, 1, 3, 2, 4, 5, 7, *range(8, 40)]
        found = dict(self.frames(80, numbers))
        first = min(found)
        whole = [place for place in range(first, first + 20) if place in found]
        self.assertEqual(len(whole), 20, "the half that came of the fourth frame is given too")
        self.assertEqual(int(found[first + 3][80]), 7 * 80)

    def test_a_sender_that_is_silent_leaves_no_gap_and_one_that_changes_goes_on(self):
        reframer = Reframer()
        places = [reframer.put(number, np.ones(160, np.int16))[0][0] for number in range(3)]
        after = [place for place, _ in reframer.put(3, np.ones(480, np.int16))]
        self.assertEqual([*places, *after], list(range(places[0], places[0] + 6)))
        self.assertEqual(reframer.put(4, np.zeros(0, np.int16)), [])
        self.assertEqual(reframer.put(4, np.zeros(9_000, np.int16)), [])

    def test_all_of_it_is_heard_in_a_stream(self):
        tone = (8_000 * np.sin(np.arange(16_000) / 5)).astype(np.int16)
        for length in (80, 240, 480):
            stream = Stream(AGREED, Identity(1, 2, 3))
            level = []
            for tick in range(100):
                now = tick * 0.02
                at = tick * 160
                for number in range(at // length, (at + 160) // length):
                    data = g711.encoded(tone[number * length : (number + 1) * length], "PCMU")
                    packet = RtpPacket(0, number, number * length, 9, data)
                    stream.receive(packet.to_bytes(), HERE, now)
                frame, _ = stream.heard()
                level.append(float(np.abs(frame.astype(float)).mean()))
            self.assertGreater(np.mean(np.array(level[20:]) > 3_000), 0.95, length)
            self.assertEqual(stream.quality().loss, 0.0, length)


AGREED = Agreed("192.0.2.5", 4_000, PCMU, 0, 101, "sendrecv")
HERE = ("192.0.2.5", 4_000)


class Sources(unittest.TestCase):
    """Whose sound is taken."""

    def stream(self, **options):
        return Stream(AGREED, Identity(1, 2, 3), "192.0.2.7", **options)

    def send(self, stream, place, number, now=0.0, source=9):
        packet = RtpPacket(0, number, number * 160, source, bytes(160))
        stream.receive(packet.to_bytes(), place, now)
        return stream.locked

    def test_two_packets_of_a_stranger_take_no_call_over(self):
        stream = self.stream()
        for number in range(5):
            self.assertIsNone(self.send(stream, ("203.0.113.9", 9_999), number))
        self.assertEqual(stream.unknown_source_packets, 5)
        self.assertEqual(self.send(stream, HERE, 100), HERE)

    def test_behind_a_translator_it_comes_from_where_the_signalling_does(self):
        stream = self.stream()
        behind = ("192.0.2.7", 61_000)
        self.assertEqual(self.send(stream, behind, 1), behind)
        self.assertEqual(self.send(stream, ("192.0.2.7", 62_000), 3, 0.04), behind)
        moved = ("192.0.2.7", 62_000)
        self.assertEqual(self.send(stream, moved, 4, 5.0), moved, "it moved while it was silent")
        self.assertEqual(self.send(stream, ("203.0.113.9", 62_000), 5, 20.0), moved)

    def test_from_anywhere_where_that_is_asked_for(self):
        stream = self.stream(any_source=True)
        far = ("203.0.113.9", 9_999)
        self.assertIsNone(self.send(stream, far, 1))
        self.assertEqual(self.send(stream, far, 2), far)

    def test_where_it_said_that_it_is_comes_first(self):
        stream, old = self.stream(), (HERE[0], 61_000)
        self.assertEqual(self.send(stream, old, 1), old)
        self.assertEqual(self.send(stream, HERE, 2, 0.02), HERE)
        self.assertEqual(self.send(stream, old, 3, 0.04), HERE, "a straggler takes nothing back")

    def test_numbers_that_begin_anew_are_followed_at_once(self):
        stream = self.stream()
        for number in range(50):
            self.send(stream, HERE, number, number * 0.02)
            stream.heard()
        heard = []
        for number in range(50):
            now = 1 + number * 0.02
            packet = RtpPacket(0, 30_000 + number, 9_000_000 + number * 160, 9, b"\x20" * 160)
            if number == 20:
                # One of the old row is no row.
                self.send(stream, HERE, 60, now)
            stream.receive(packet.to_bytes(), HERE, now)
            heard.append(bool(np.abs(stream.heard()[0]).max() > 1_000))
        self.assertGreaterEqual(sum(heard[:12]), 6)
        self.assertTrue(all(heard[12:]), heard)
        self.assertLess(stream.quality().loss, 0.1)

    def test_another_sender_from_the_same_place_is_heard_at_once(self):
        stream = self.stream()
        for number in range(20):
            self.send(stream, HERE, number, number * 0.02)
            stream.heard()
        for number in range(20):
            self.send(stream, HERE, 40_000 + number, 1 + number * 0.02, source=77)
            stream.heard()
        self.assertLess(stream.quality().loss, 0.2)

    def test_of_a_call_in_which_nothing_was_heard_there_is_no_quality(self):
        self.assertIsNone(self.stream().quality())


class HowItSounds(unittest.TestCase):
    def test_by_loss_and_delay(self):
        clean = rated("PCMU", loss=0.0, jitter_ms=1, delay_ms=40)
        self.assertGreater(clean.r_factor, 90)
        self.assertGreater(clean.mos, 4.3)
        ratings = [
            rated("PCMU", loss=share, jitter_ms=5, delay_ms=60).r_factor
            for share in (0, 0.01, 0.05, 0.3)
        ]
        self.assertEqual(ratings, sorted(ratings, reverse=True))
        self.assertLess(rated("PCMA", loss=0.0, jitter_ms=1, delay_ms=500).r_factor, 60)
        self.assertEqual((mos(-5), mos(120)), (1.0, 4.5))
        self.assertGreaterEqual(rated("PCMU", loss=1.0, jitter_ms=0, delay_ms=9_000).r_factor, 0.0)
