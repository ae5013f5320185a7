"""Session timers, the quality of a call, how loud a frame is, and what is kept of a call."""

import math
import random
import unittest
from types import SimpleNamespace

import numpy as np

from fond_echo.core.telephony.errors import MalformedValue
from fond_echo.core.telephony.media.loudness import rms
from fond_echo.core.telephony.media.quality import BASE, mos, rated
from fond_echo.core.telephony.sip import timers
from fond_echo.core.telephony.sip.message import Fields, Request, Response
from fond_echo.core.telephony.sip.saved_dialog import farewell
from fond_echo.core.telephony.sip.timers import Expiry
from fond_echo.core.telephony.sip.transaction_layer import Output, TransactionLayer
from fond_echo.core.telephony.sip.values import parse_uri


def requested(*fields):
    return Request(Fields(tuple(fields)), b"", "INVITE", parse_uri("sip:desk@pell.example"))


def refused(*fields):
    return Response(Fields(tuple(fields)), b"", 422, "Session Interval Too Small")


class Timers(unittest.TestCase):
    def test_what_a_message_says_of_its_length(self):
        for text, expiry in (
            ("1800", Expiry(1_800, "")), ("90;refresher=uas", Expiry(90, "uas")),
            (" 600 ; Refresher = UAC ", Expiry(600, "uac")), ("", None), ("soon", None), ("-1", None),
            ("90;refresher=me", None), ("9999999999", None),
        ):  # fmt: skip
            self.assertEqual(timers.expiry_of(requested(("session-expires", text))), expiry, text)
        self.assertIsNone(timers.expiry_of(requested()))

    def test_it_is_written_as_it_was_read(self):
        for text in ("1800", "90;refresher=uas", "600;refresher=uac"):
            self.assertEqual(str(timers.expiry_of(requested(("session-expires", text)))), text)

    def test_too_short(self):
        self.assertTrue(timers.too_short(requested(("session-expires", "89"))))
        self.assertFalse(timers.too_short(requested(("session-expires", "90"))))
        self.assertFalse(timers.too_short(requested()))

    def test_who_refreshes(self):
        for fields, chosen, requires in (
            ((("supported", "timer"), ("session-expires", "300;refresher=uas")), "300;refresher=uas", False),
            ((("supported", "timer"), ("session-expires", "300;refresher=uac")), "300;refresher=uac", True),
            ((("supported", "timer"), ("session-expires", "300")), "300;refresher=uac", True),
            ((("supported", "Timer"),), f"{timers.INTERVAL};refresher=uac", True),
            ((("session-expires", "300;refresher=uac"),), "300;refresher=uas", False),
            ((), f"{timers.INTERVAL};refresher=uas", False),
        ):  # fmt: skip
            expiry, answer = timers.answered(requested(*fields))
            self.assertEqual(str(expiry), chosen, fields)
            self.assertEqual(dict(answer).get("require") == "timer", requires, fields)

    def test_ours_is_half_way_theirs_a_little_before_the_end(self):
        for expiry, by_us, refresher, at in (
            (Expiry(1_800, "uac"), True, "us", 1_000 + 900), (Expiry(1_800, "uas"), False, "us", 1_900),
            (Expiry(1_800, "uas"), True, "them", 1_000 + 1_768), (Expiry(90, "uac"), False, "them", 1_060),
        ):  # fmt: skip
            call = SimpleNamespace(interval=0, refresher="", timer_at=None)
            timers.start(call, expiry, 1_000.0, asked_by_us=by_us)
            self.assertEqual((call.interval, call.refresher), (expiry.seconds, refresher))
            self.assertAlmostEqual(call.timer_at, at)
        call = SimpleNamespace(interval=7, refresher="us", timer_at=3.0)
        timers.start(call, None, 1_000.0, asked_by_us=True)
        self.assertEqual((call.interval, call.timer_at), (0, None))

    def test_the_least_that_somebody_takes(self):
        for text, least in (("1200", 1_200), ("1200;x=y", 1_200), ("much", 0), ("", 0), ("٣", 0)):
            self.assertEqual(timers.least_of(refused(("min-se", text))), least, text)
        self.assertEqual(timers.least_of(refused()), 0)


class Quality(unittest.TestCase):
    def test_a_perfect_call(self):
        found = rated("PCMU", loss=0.0, jitter_ms=0.0, delay_ms=0.0)
        self.assertEqual((found.r_factor, found.mos), (BASE, 4.41))

    def test_loss_delay_and_bursts_make_it_worse(self):
        def rating(**given):
            values = {"loss": 0.0, "jitter_ms": 0.0, "delay_ms": 20.0, **given}
            return rated("PCMA", **values).r_factor

        losses = [rating(loss=each) for each in (0.0, 0.01, 0.05, 0.2, 1.0)]
        self.assertEqual(losses, sorted(losses, reverse=True))
        delays = [rating(delay_ms=each) for each in (0.0, 100.0, 177.0, 300.0, 900.0)]
        self.assertEqual(delays, sorted(delays, reverse=True))
        self.assertGreater(delays[2] - delays[3], 3 * (delays[1] - delays[2]))
        self.assertLess(rating(loss=0.05, burst=3.0), rating(loss=0.05))
        self.assertGreaterEqual(rating(loss=9.0, delay_ms=9_999.0), 0.0)

    def test_the_opinion_that_a_rating_stands_for(self):
        for rating, score in (
            (-5, 1.0),
            (0, 1.0),
            (50, 2.58),
            (80, 4.02),
            (93.2, 4.41),
            (120, 4.5),
        ):
            self.assertAlmostEqual(mos(rating), score, delta=0.006)
        scores = [mos(each) for each in range(7, 101)]
        self.assertEqual(scores, sorted(scores))

    def test_a_codec_that_is_not_known_is_judged_as_the_plainest(self):
        given = {"loss": 0.02, "jitter_ms": 1.0, "delay_ms": 30.0}
        self.assertEqual(rated("smoke", **given), rated("PCMU", **given))


class Loudness(unittest.TestCase):
    def test_root_mean_square(self):
        self.assertEqual(rms(np.zeros(160, np.int16)), 0.0)
        self.assertEqual(rms(np.full(160, -32_768, np.int16)), 32_768.0)
        clock = np.arange(160) / 8_000
        tone = (10_000 * np.sin(2 * np.pi * 400 * clock)).astype(np.int16)
        self.assertAlmostEqual(rms(tone), 10_000 / math.sqrt(2), delta=2)


class Kept(unittest.TestCase):
    def test_what_was_not_kept_ends_no_call(self):
        exchange = TransactionLayer("192.0.2.1", 5060, lambda *_: Output(), random.Random(1))
        whole = {
            "call_id": "7@a", "local": "<sip:a@b>;tag=1", "remote": "<sip:c@d>;tag=2",
            "target": "sip:c@192.0.2.9", "route": [], "sent": 3, "hop": ["192.0.2.9", 5060],
        }  # fmt: skip
        out = farewell(exchange, whole, 0.0)
        sent = b"".join(data for data, _ in out.send)
        self.assertTrue(sent.startswith(b"BYE sip:c@192.0.2.9"), sent[:60])
        for field, value in (
            ("local", "nobody"), ("target", "?"), ("route", None), ("sent", "many"), ("hop", 7),
        ):  # fmt: skip
            with self.subTest(field), self.assertRaises(MalformedValue):
                farewell(exchange, {**whole, field: value}, 0.0)
        with self.assertRaises(MalformedValue):
            farewell(exchange, {}, 0.0)


if __name__ == "__main__":
    unittest.main()
