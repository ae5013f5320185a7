"""Numbers in their one form, who is slowed down, when many are to be woken, who answered."""

import unittest

import numpy as np

from fond_echo.core.audio.clip import join, silence
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.telephony.conversation.answering_machine import (
    AnsweringMachineDetector,
    GreetingListener,
)
from fond_echo.core.telephony.errors import MalformedValue
from fond_echo.core.telephony.media.tones import beep
from fond_echo.core.telephony.sip.numbers import is_allowed, normalized
from fond_echo.core.telephony.sip.rate_limiter import BLOCKED_SECONDS, RateLimiter
from fond_echo.core.telephony.sip.timer_queue import TimerQueue
from tests.sounds import speech


class Numbers(unittest.TestCase):
    def test_one_form(self):
        for text, country, number in (
            ("+44 1632 960123", "", "+441632960123"), ("01632 960123", "44", "+441632960123"),
            ("(01632) 960-123", "44", "+441632960123"), ("+44 (0)1632 960123", "", "+441632960123"),
            ("0044 1632 960123", "1", "+441632960123"), ("441632960123", "", "+441632960123"),
            ("2001", "44", "2001"), ("quay", "44", "quay"), (" room-7 ", "", "room-7"),
        ):  # fmt: skip
            self.assertEqual(normalized(text, country), number, text)
        for text in ("", "+", "+44", "01632 960123", "+441632960123456789", "a b", "<sip:x>",
                     "1\r\nVia: x", "++441632960123", "+0441632960123", "()"):  # fmt: skip
            with self.assertRaises(MalformedValue, msg=text):
                normalized(text)

    def test_only_what_is_allowed(self):
        allowed = ("+441632960*", "01632 970000", "quay", "*")
        for number, may in (
            ("+441632960001", True), ("+441632970000", True), ("quay", True),
            ("+441632961001", False), ("+4416329700001", False), ("quayside", False), ("", False),
        ):  # fmt: skip
            self.assertEqual(is_allowed(number, allowed, "44"), may, number)


class Doors(unittest.TestCase):
    def test_guessing_is_slowed_down_and_at_last_not_heard(self):
        guard = RateLimiter()
        waits = [guard.strike("192.0.2.7", float(second)) for second in range(9)]
        self.assertEqual(waits, [0, 0, 0, 0.5, 1.0, 2.0, 4.0, 4.0, 4.0])
        self.assertTrue(guard.hears("192.0.2.7", 9.0))
        guard.strike("192.0.2.7", 9.0)
        self.assertFalse(guard.hears("192.0.2.7", 10.0))
        self.assertTrue(guard.hears("192.0.2.8", 10.0), "others are")
        self.assertTrue(guard.hears("192.0.2.7", 10.0 + BLOCKED_SECONDS))
        guard.strike("192.0.2.9", 1_000.0)
        guard.right("192.0.2.9")
        self.assertEqual(guard.strike("192.0.2.9", 1_001.0), 0.0)

    def test_a_flood_is_cut_and_what_is_known_is_bounded(self):
        guard = RateLimiter()
        heard = sum(guard.hears("192.0.2.7", number / 1_000) for number in range(10_000))
        self.assertTrue(600 < heard < 750, heard)
        self.assertEqual(guard.dropped, 10_000 - heard)
        for number in range(30_000):
            guard.hears(f"10.{number >> 16}.{number >> 8 & 255}.{number & 255}", 11.0)
        self.assertLessEqual(len(guard._known), 10_000)

    def test_many_are_woken_in_their_order(self):
        alarms = TimerQueue()
        for name, at in (("b", 2.0), ("a", 1.0), ("c", 3.0), ("a", 4.0), ("d", 1.5)):
            alarms.put(name, at)
        alarms.put("d", None)
        self.assertEqual(alarms.due, 2.0)
        self.assertEqual(alarms.ring(3.0), ["b", "c"])
        self.assertEqual((alarms.ring(3.5), alarms.due), ([], 4.0))
        self.assertEqual((alarms.ring(9.0), alarms.due), (["a"], None))


def frames(clip):
    whole = at_rate(clip, 8_000).samples * 32_767
    samples = whole.astype(np.int16)
    return [samples[at : at + 160] for at in range(0, len(samples) - 159, 160)]


class Answerers(unittest.TestCase):
    def who(self, *clips):
        ear = AnsweringMachineDetector()
        whole = join([at_rate(each, 8_000) for each in clips])
        for place, frame in enumerate(frames(whole)):
            if ear.feed(frame):
                return ear.who, place * 0.02
        return None, whole.seconds

    def test_a_person_says_a_little_and_waits(self):
        for words in ("Hello?", "Isla Quennell.", "Yes, who is there?"):
            who, at = self.who(silence(0.4, 8_000), speech(words, "curlew"), silence(2.0, 8_000))
            self.assertEqual(who, "person", words)
            self.assertLess(at, 3.5)

    def test_a_machine_goes_on_or_beeps(self):
        long = "This is Piet Oduya. I cannot take your call right now, so please leave a message."
        self.assertEqual(self.who(silence(0.4, 8_000), speech(long, "petrel"))[0], "machine")
        beeping = (silence(0.5, 8_000), beep(0.4, 1_000.0), silence(2.0, 8_000))
        self.assertEqual(self.who(*beeping)[0], "machine")

    def test_who_says_nothing_stays_unknown(self):
        who, at = self.who(silence(6.0, 8_000))
        self.assertEqual(who, "unknown")
        self.assertAlmostEqual(at, 1.5, delta=0.1)

    def test_one_speaks_after_the_beep_or_after_silence(self):
        said = at_rate(speech("Please leave a message after the tone.", "petrel"), 8_000)
        for end, after in ((beep(0.5, 1_400.0), 0.6), (silence(0.0, 8_000), 2.2)):
            ear = GreetingListener()
            whole = join([said, silence(0.3, 8_000), end, silence(4.0, 8_000)])
            over = next(place for place, frame in enumerate(frames(whole)) if ear.feed(frame))
            begin = said.seconds + 0.3 + end.seconds
            self.assertTrue(-0.1 < over * 0.02 - begin < after + 0.1, (over * 0.02, begin))
