"""What goes on within calls: session timers, transfer, media that change, offers that come late."""

import itertools
import random

from fond_echo.core.telephony.errors import MalformedValue
from fond_echo.core.telephony.sip.calls import (
    Account,
    Changed,
    Ended,
    Offered,
    TransferAsked,
    Transferred,
)
from fond_echo.core.telephony.sip.digest import Challenger
from fond_echo.core.telephony.sip.endpoint import Endpoint
from fond_echo.core.telephony.sip.message import Request, Response, read_message
from fond_echo.core.telephony.sip.saved_dialog import farewell, kept
from fond_echo.core.telephony.sip.sdp import Terms, offer, read_description
from fond_echo.core.telephony.sip.timers import Expiry, answered, expiry_of
from fond_echo.core.telephony.sip.values import Hop, parse_address, parse_uri
from tests.core.telephony.network import THEM, US, Media, OverANetwork


class Strict(Endpoint):
    """Challenges every request within a call."""

    def __init__(self, *arguments):
        super().__init__(*arguments)
        self.challenger = Challenger("tern", b"key")
        self.wrong = False
        self.let_in, self.inside.take = self.inside.take, self.judged

    def judged(self, requested, now):
        given = requested.request.fields.get("proxy-authorization") or ""
        password = None if self.wrong else "pw"
        method = requested.request.method
        if self.challenger.judge(given, method, password, now) == "right":
            return self.let_in(requested, now)
        reported = [("proxy-authenticate", str(each)) for each in self.challenger.challenges(now)]
        return self._leg.say(requested, 407, now, reported)


class Challenged(OverANetwork):
    """A trunk that asks who we are within calls too."""

    def begin(self, **errors):
        super().begin(**errors)
        self.theirs = Strict(*THEM[:2], Media(30_000), random.Random(5))
        self.network.add(self.theirs, THEM)

    def test_hanging_up_transfer_and_hold_answer_the_challenge(self):
        for came in (Ended, TransferAsked, Changed):
            self.begin()
            self.theirs.inside.may_be_transferred = True
            placed, call = self.picked_up()
            call.account, now = Account("desk", "pw"), self.network.now
            if came is Ended:
                out = self.ours.hang_up(call, now)
            elif came is TransferAsked:
                out = self.ours.inside.transfer(call, "sip:maren@192.0.2.9", now)
            else:
                out = self.ours.inside.change(call, offer(Media(20_000).terms), now)
            self.network.out(out, US)
            self.network.run(now + 3)
            self.assertEqual([each.call for each in self.network.of(came, THEM)], [placed], came)

    def test_a_call_that_was_kept_is_ended_with_the_account(self):
        placed, call = self.picked_up()
        data = kept(call, self.ours.hop_of(call))
        for account in (None, Account("desk", "pw")):
            self.assertEqual(self.network.of(Ended, THEM), [])
            out = farewell(self.ours.transactions, data, self.network.now, account)
            self.network.out(out, US)
            self.network.run(self.network.now + 3)
        self.assertEqual([each.call for each in self.network.of(Ended, THEM)], [placed])

    def test_a_wrong_password_is_tried_once(self):
        self.theirs.wrong = True
        _, call = self.picked_up()
        call.account = Account("desk", "pw")
        self.network.out(self.ours.hang_up(call, self.network.now), US)
        self.network.run(self.network.now + 60)
        sent = [read_message(data) for _, place, _, data in self.network.sent if place == US]
        byes = {each.sequence for each in sent if getattr(each, "method", "") == "BYE"}
        self.assertEqual(len(byes), 2)


class Within(OverANetwork):
    def requests(self, method):
        """Who sent a request of a method, and when."""
        found = []
        for at, place, _, data in self.network.sent:
            message = read_message(data)
            if isinstance(message, Request) and message.method == method:
                found.append((at, place, message))
        return found

    def statuses(self, method):
        messages = [read_message(data) for _, _, _, data in self.network.sent]
        return [
            each.status
            for each in messages
            if isinstance(each, Response) and each.sequence[1] == method
        ]

    def test_who_made_the_call_says_in_time_that_it_is_there(self):
        placed, call = self.picked_up()
        self.assertEqual((placed.interval, placed.refresher), (1_800, "us"))
        self.assertEqual((call.interval, call.refresher), (1_800, "them"))
        begun = self.network.now
        self.network.run(begun + 4_000)
        times = [at - begun for at, place, _ in self.requests("INVITE")[1:]]
        self.assertEqual(len(times), 4, times)
        self.assertTrue(all(880 < b - a < 920 for a, b in itertools.pairwise(times)))
        self.assertEqual(self.network.of(Ended), [])
        # One that vanishes is found out: by who waits for its word, and by who gives it.
        self.network._machines.pop(THEM)
        self.network.run(self.network.now + 2_000)
        (ended,) = self.network.of(Ended, US)
        self.assertEqual((ended.cause, ended.by), ("vanished", "network"))

    def test_a_side_that_does_not_answer_its_refresh_is_gone(self):
        self.picked_up()
        self.network._machines.pop(US)
        self.network.run(self.network.now + 1_000)
        (ended,) = self.network.of(Ended, THEM)
        self.assertEqual((ended.cause, ended.by), ("vanished", "network"))

    def test_expiries_are_read_and_chosen(self):
        def request(*fields):
            reported = self.call()
            invite = reported.invite
            pairs = [p for p in invite.fields.pairs if p[0] not in ("session-expires", "supported")]
            return Request(type(invite.fields)((*pairs, *fields)), b"", "INVITE", invite.uri)

        self.assertIsNone(expiry_of(request(("session-expires", "soon"))))
        requested = request(("session-expires", "600;refresher=uas"), ("supported", "timer"))
        self.assertEqual(expiry_of(requested), Expiry(600, "uas"))
        self.assertEqual(answered(requested)[0], Expiry(600, "uas"))
        chosen, fields = answered(request(("supported", "timer")))
        self.assertEqual((chosen, ("require", "timer") in fields), (Expiry(1_800, "uac"), True))
        self.assertEqual(answered(request())[0], Expiry(1_800, "uas"), "who cannot, need not")

    def test_too_short_a_session_is_refused_and_asked_for_anew(self):
        call, out = self.theirs.place(
            parse_uri("sip:2001@192.0.2.1"), parse_address("<sip:isla@192.0.2.2>"),
            offer(Media(30_000).terms), 0.0,
        )  # fmt: skip
        short = call.invite.fields.having("session-expires", "60")
        call.invite = Request(short, call.invite.body, "INVITE", call.invite.uri)
        out.send = [(call.invite.to_bytes(), out.send[0][1])]
        self.network.out(out, THEM)
        self.network.run(3)
        self.assertIn(422, self.statuses("INVITE"))
        self.assertEqual(self.requests("INVITE")[-1][2].fields.get("session-expires"), "90")
        self.assertEqual(len(self.network.of(Offered, US)), 1)

    def test_a_transfer_and_what_becomes_of_it(self):
        for status in (200, 486):
            self.begin()
            placed, call = self.picked_up()
            self.theirs.inside.may_be_transferred = True
            out = self.ours.inside.transfer(call, "sip:maren@192.0.2.9", self.network.now)
            self.network.out(out, US)
            self.network.run(self.network.now + 2)
            (requested,) = self.network.of(TransferAsked, THEM)
            self.assertEqual(requested.to.number, "maren")
            for reported in (100, status):
                out = self.theirs.inside.tell_transfer(placed, reported, self.network.now)
                self.network.out(out, THEM)
                self.network.run(self.network.now + 1)
            came = self.network.of(Transferred, US)[-1]
            self.assertEqual(came.status, status)

    def test_nobody_has_us_call_somebody(self):
        placed, _ = self.picked_up()
        out = self.theirs.inside.transfer(placed, "sip:+15550100@192.0.2.9", self.network.now)
        self.network.out(out, THEM)
        self.network.run(self.network.now + 2)
        self.assertEqual(self.network.of(TransferAsked), [])
        (came,) = self.network.of(Transferred, THEM)
        self.assertEqual(came.status, 603)

    def test_hold_by_either_side_and_both_at_once(self):
        placed, call = self.picked_up()
        held = offer(Terms("192.0.2.2", 30_000, 1, version=2, direction="sendonly"))
        self.network.out(self.theirs.inside.change(placed, held, self.network.now), THEM)
        self.network.run(self.network.now + 2)
        self.assertEqual(read_description(call.local_sdp).audio.direction, "recvonly")
        self.assertEqual(len(self.network.of(Changed)), 2)
        # Both at once: each refuses the other, and the one that made the call asks again later.
        ours = offer(Terms("192.0.2.1", 20_000, 1, version=3))
        theirs = offer(Terms("192.0.2.2", 30_000, 1, version=3))
        self.network.out(self.ours.inside.change(call, ours, self.network.now), US)
        self.network.out(self.theirs.inside.change(placed, theirs, self.network.now), THEM)
        self.network.run(self.network.now + 30)
        self.assertEqual(self.statuses("INVITE").count(491), 2)
        self.assertEqual((call.changing, placed.changing), (b"", b""))
        self.assertEqual((call.state, placed.state), ("answered", "answered"))
        self.assertEqual(call.remote_sdp, theirs)

    def test_another_process_ends_a_call_that_was_kept(self):
        placed, call = self.picked_up()
        data = kept(call, self.ours.hop_of(call))
        self.assertEqual(data["hop"], list(THEM))
        with self.assertRaises(MalformedValue):
            farewell(self.ours.transactions, {**data, "local": "nobody>"}, 0.0)
        self.network.out(farewell(self.ours.transactions, data, self.network.now), US)
        self.network.run(self.network.now + 2)
        (ended,) = self.network.of(Ended, THEM)
        self.assertEqual((ended.call, ended.cause, ended.by), (placed, "hung-up", "them"))

    def test_over_tcp_nothing_is_sent_twice_and_contacts_say_so(self):
        there = Hop("192.0.2.1", 5060, "TCP")
        call, out = self.theirs.place(
            parse_uri("sip:2001@192.0.2.1"), parse_address("<sip:isla@192.0.2.2>"),
            offer(Media(30_000).terms), 0.0, hop=there,
        )  # fmt: skip
        ((data, to),) = out.send
        invite = read_message(data)
        self.assertEqual((to, invite.vias[0].transport), (there, "TCP"))
        self.assertEqual(invite.contacts[0].uri.parameter("transport"), "tcp")
        self.assertEqual(self.theirs.wake(3.0).send, [], "TCP does not lose it")
        (ended,) = self.theirs.wake(40.0).events
        self.assertEqual((ended.cause, ended.call), ("unreachable", call))
