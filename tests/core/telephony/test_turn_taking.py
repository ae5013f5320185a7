"""A call's course and its media, with sound but without sockets or clocks."""

import unittest

import numpy as np

from fond_echo.core.audio.resample import at_rate
from fond_echo.core.telephony.conversation.listening import Began, Listener, Paused, Utterance
from fond_echo.core.telephony.conversation.turn_taking import (
    CallPolicy,
    Leave,
    Press,
    Remind,
    SpeculativeEndpoint,
    StopPlayback,
    TurnTaking,
    Understand,
)
from fond_echo.core.telephony.media.g711 import encoded
from fond_echo.core.telephony.media.rtp import read_rtcp, read_rtp
from fond_echo.core.telephony.media.stream import Identity, Stream
from fond_echo.core.telephony.media.tones import tone
from fond_echo.core.telephony.sip.sdp import PCMA, PCMU, Agreed
from tests.sounds import speech

FRAME = 160


def frames(samples):
    """Frames of 20 ms, the last one filled up."""
    whole = np.pad(samples, (0, -len(samples) % FRAME))
    return whole.reshape(-1, FRAME).astype(np.int16)


def said(text="When is the next boat to Pell?", voice="curlew", noise=30.0):
    clip = at_rate(speech(text, voice), 8_000)
    chance = np.random.default_rng(5)
    samples = clip.samples * 20_000 + chance.normal(0, noise, len(clip))
    return np.clip(samples, -32_768, 32_767)


def silence(seconds, noise=30.0):
    return np.random.default_rng(6).normal(0, noise, int(seconds * 8_000))


class Listening(unittest.TestCase):
    def heard(self, samples, **options):
        listener = Listener(**options)
        found = [(n * 0.02, listener.feed(frame)) for n, frame in enumerate(frames(samples))]
        self.pauses = [each for _, each in found if isinstance(each, Paused)]
        return [(at, each) for at, each in found if isinstance(each, (Began, Utterance))]

    def test_what_is_said_is_heard_whole_and_its_end_known(self):
        for noise in (10.0, 60.0, 250.0):
            sound = said(noise=noise)
            whole = np.concatenate([silence(1.0, noise), sound, silence(1.5, noise)])
            (began_at, began), (ended_at, utterance) = self.heard(whole)
            self.assertIsInstance(began, Began)
            self.assertTrue(0.98 < began_at < 1.35, began_at)
            self.assertIsInstance(utterance, Utterance)
            self.assertFalse(utterance.truncated)
            end = 1.0 + len(sound) / 8_000
            self.assertTrue(end + 0.3 < ended_at < end + 1.0, (ended_at, end))
            self.assertGreater(len(utterance.samples), len(sound) * 0.95)

    def test_a_pause_within_is_not_the_end(self):
        whole = np.concatenate(
            [silence(0.5), said("One six"), silence(0.45), said("three two"), silence(1.2)]
        )
        found = [each for _, each in self.heard(whole)]
        self.assertEqual([type(each) for each in found], [Began, Utterance])
        self.assertGreaterEqual(len(self.pauses), 2)
        first, last = self.pauses[0], self.pauses[-1]
        self.assertLess(len(first.samples), 0.7 * len(last.samples))
        numbers = [each.number for each in self.pauses]
        self.assertEqual(sorted(set(numbers)), [*range(1, numbers[-1] + 1)])
        self.assertEqual(numbers, sorted(numbers))
        self.assertEqual(numbers[-2:], [numbers[-1]] * 2, "told when it begins and when it lasts")

    def test_noise_and_clicks_are_no_speech(self):
        click = silence(3.0)
        click[8_000:8_100] = 20_000
        self.assertEqual(self.heard(click), [])
        for noise in (5.0, 200.0, 900.0):
            self.assertEqual(self.heard(silence(4.0, noise)), [])
        # A noise that sets in is taken for speech at first, and then seen through.
        setting_in = np.concatenate([silence(1.0), silence(5.0, 300.0)])
        kinds = [type(each) for _, each in self.heard(setting_in)]
        self.assertEqual(kinds, [Began, Utterance])

    def test_what_does_not_end_is_cut(self):
        talk = np.concatenate([silence(0.5), *([said()] * 3)])
        found = [each for _, each in self.heard(talk, max_seconds=2.0)]
        self.assertTrue(found[1].truncated)


class Course(unittest.TestCase):
    def setUp(self):
        self.begin()

    def begin(self, **prosodies):
        self.now = 0.0
        self.talk = TurnTaking(CallPolicy(**prosodies), self.now)
        self.done = []

    def hear(self, samples):
        for frame in frames(samples):
            self.now += 0.02
            self.done += self.talk.frame(frame, self.now)

    def kinds(self):
        found = [type(each) for each in self.done if not isinstance(each, SpeculativeEndpoint)]
        self.done.clear()
        return found

    def test_a_pause_may_be_the_end_and_is_where_somebody_knows(self):
        self.talk.spoken(self.now)
        self.talk.speak(self.now)
        self.talk.spoken(self.now)
        self.hear(silence(0.5))
        for frame in frames(np.concatenate([said(), silence(0.4)])):
            if self.done:
                break
            self.hear(frame)
        (early,) = self.done
        self.assertIsInstance(early, SpeculativeEndpoint)
        self.assertEqual(self.talk.conclude(early.pause, self.now), [], "too soon")
        self.hear(silence(0.24))
        guess = self.done[-1]
        self.assertIsInstance(guess, SpeculativeEndpoint)
        self.assertEqual((len(self.done), guess.pause), (2, early.pause))
        self.assertEqual(self.talk.conclude(guess.pause + 1, self.now), [])
        (whole,) = self.talk.conclude(guess.pause, self.now)
        self.assertEqual((type(whole), whole.pause), (Understand, guess.pause))
        self.assertGreaterEqual(len(whole.samples), len(guess.samples))
        self.assertEqual(self.talk.conclude(guess.pause, self.now), [])
        # What is said on after the pause is not cut off by a guess that came late.
        self.begin()
        self.talk.speak(self.now)
        self.talk.spoken(self.now)
        self.hear(np.concatenate([silence(0.5), said(), silence(0.3), said()]))
        self.assertEqual(self.talk.conclude(self.done[0].pause, self.now), [])

    def test_a_message_has_pauses_and_ends_with_its_key(self):
        self.talk.speak(self.now)
        self.talk.spoken(self.now)
        self.talk.take_message(20.0)
        self.hear(np.concatenate([silence(0.5), said(), silence(1.5), said(), silence(0.5)]))
        self.assertEqual(self.done, [])
        self.assertEqual(self.talk.key("5", self.now), [])
        (whole,) = self.talk.key("#", self.now)
        self.assertGreater(len(whole.samples), 2 * len(said()))
        # From then on it is as before.
        self.talk.speak(self.now)
        self.talk.spoken(self.now)
        self.hear(np.concatenate([said(), silence(1.0)]))
        self.assertEqual(self.kinds(), [Understand])

    def test_a_question_and_its_answer(self):
        self.talk.speak(self.now)
        self.hear(silence(1.0))
        self.talk.spoken(self.now)
        self.hear(np.concatenate([said(), silence(1.0)]))
        self.assertEqual(self.kinds(), [Understand])
        self.assertEqual(self.talk.state, "thinking")
        self.hear(said())
        self.assertEqual(self.kinds(), [], "while it thinks it does not listen")

    def test_the_caller_cuts_in_or_may_not(self):
        self.talk.speak(self.now)
        self.hear(np.concatenate([silence(0.5), said(), silence(1.0)]))
        self.assertEqual(self.kinds(), [StopPlayback, Understand])
        self.begin(barge_in=False)
        self.talk.speak(self.now)
        self.hear(np.concatenate([silence(0.5), said(), silence(1.0)]))
        self.assertEqual(self.kinds(), [])
        self.done += self.talk.key("3", self.now)
        self.assertEqual(self.done, [StopPlayback(), Press("3")])

    def test_silence_is_met_with_other_words_each_time_and_at_last_the_end(self):
        self.talk.spoken(self.now)
        self.talk.speak(self.now)
        for times in (1, 2, 3):
            self.talk.spoken(self.now)
            self.hear(silence(6.5))
            self.assertEqual(self.done, [Remind(times)])
            self.done.clear()
            self.talk.speak(self.now)
        self.talk.spoken(self.now)
        self.hear(silence(6.5))
        self.assertEqual(self.done, [Leave("silence")])
        self.hear(said())
        self.assertEqual((self.talk.state, len(self.done)), ("over", 1))
        self.assertEqual(self.talk.key("1", self.now), [])

    def test_keys_are_taken_one_by_one_or_together(self):
        self.begin(max_digits=4)
        self.talk.speak(self.now)
        self.talk.spoken(self.now)
        self.assertEqual([each for key in "12" for each in self.talk.key(key, self.now)], [])
        self.hear(silence(2.6))
        self.assertEqual(self.done, [Press("12")])
        self.assertEqual(
            [each for key in "77#" for each in self.talk.key(key, self.now)], [Press("77")]
        )
        self.assertEqual(
            [each for key in "1234" for each in self.talk.key(key, self.now)], [Press("1234")]
        )

    def test_a_call_does_not_go_on_for_ever(self):
        self.begin(max_seconds=5.0)
        self.talk.speak(self.now)
        self.hear(silence(6.0))
        self.assertEqual(self.done, [Leave("too-long")])


THERE = ("192.0.2.2", 30_000)


class Media(unittest.TestCase):
    def pair(self, codec=PCMU, events=101):
        ours = Agreed(*THERE, codec, codec.payload, events, "sendrecv")
        theirs = Agreed("192.0.2.1", 20_000, codec, codec.payload, events, "sendrecv")
        return Stream(ours, Identity(1, 65_530, 4_294_967_000)), Stream(theirs, Identity(2, 9, 9))

    def carry(self, source, target, count, place=THERE, start=0.0, drop=lambda n: False):
        heard, keys = [], []
        for number in range(count):
            now = start + number * 0.02
            for data in source.tick():
                if not drop(number):
                    key = target.receive(data, place, now)
                    keys += [key] if key else []
            frame, toned = target.heard()
            heard.append(frame)
            keys += toned
        return np.concatenate(heard), "".join(keys)

    def test_sound_and_keys_go_over(self):
        for codec in (PCMU, PCMA):
            ours, theirs = self.pair(codec)
            sound = said().astype(np.int16)
            theirs.play(encoded(sound, theirs.law))
            heard, _ = self.carry(theirs, ours, len(sound) // FRAME + 20)
            both = np.correlate(heard[:8_000].astype(float), sound[:6_000].astype(float), "valid")
            at = int(both.argmax())
            got = heard[at : at + 6_000].astype(float)
            self.assertGreater(np.corrcoef(got, sound[:6_000])[0, 1], 0.99)
            self.assertFalse(theirs.playing)
            theirs.press("7")
            theirs.press("#")
            _, keys = self.carry(theirs, ours, 40)
            self.assertEqual(keys, "7#")

    def test_keys_are_heard_in_the_sound_where_there_are_no_events(self):
        ours, theirs = self.pair(events=None)
        sound = np.concatenate([tone("4", 0.1), np.zeros(800, np.int16), tone("2", 0.1)])
        theirs.play(encoded(sound, "PCMU"))
        self.assertEqual(self.carry(theirs, ours, 40)[1], "42")

    def test_strangers_are_not_heard(self):
        ours, theirs = self.pair()
        stranger = Stream(ours.agreed, Identity(66, 1, 1))
        self.carry(theirs, ours, 10)
        for _ in range(50):
            ours.receive(stranger.tick()[0], ("203.0.113.5", 4_000), 1.0)
            ours.receive(b"rubbish", THERE, 1.0)
        self.assertEqual((ours.locked, ours.unknown_source_packets), (THERE, 100))

    def test_one_behind_a_translating_router_is_found(self):
        ours, theirs = self.pair()
        real = ("198.51.100.9", 61_000)
        ours._signalling = real[0]
        self.carry(theirs, ours, 5, place=real)
        self.assertEqual((ours.locked, ours.place), (real, real))
        moved = Agreed("192.0.2.77", 30_000, PCMU, 0, 101, "sendrecv")
        ours.changed(moved)
        self.assertEqual(ours.place, ("192.0.2.77", 30_000))

    def test_on_hold_nothing_is_sent_or_heard(self):
        ours, _ = self.pair()
        ours.changed(Agreed(*THERE, PCMU, 0, 101, "inactive"))
        self.assertEqual((ours.tick(), ours.heard()[0].any()), ([], False))

    def test_what_was_said_may_be_stopped(self):
        ours, _ = self.pair()
        ours.play(bytes(1_000))
        self.assertTrue(ours.playing)
        ours.hush()
        self.assertEqual(read_rtp(ours.tick()[0]).payload, b"\xff" * FRAME)

    def test_reports_give_round_trip_and_quality(self):
        ours, theirs = self.pair()
        theirs.play(encoded(said().astype(np.int16), "PCMU"))
        self.carry(theirs, ours, 100, drop=lambda n: n % 20 == 7)
        first = theirs.report(2.0, 1_000.0)
        ours.receive_report(first, 2.05, 1_000.05)
        theirs.receive_report(ours.report(2.15, 1_000.15), 2.2, 1_000.2)
        self.assertEqual(read_rtcp(first).name, "fond-echo")
        self.assertEqual(ours.report(2.2, 1_000.2), b"", "it is not time yet")
        ours.receive_report(theirs.report(7.3, 1_005.3), 7.35, 1_005.35)
        self.assertAlmostEqual(theirs._round_trip, 0.1, delta=0.002)
        reported = ours.quality()
        self.assertAlmostEqual(reported.loss, 0.05, delta=0.02)
        self.assertLess(reported.r_factor, 90)
        ours.receive_report(b"rubbish", 8.0, 1_006.0)
        self.assertEqual(ours.unknown_source_packets, 1)
