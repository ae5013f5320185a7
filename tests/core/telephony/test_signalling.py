"""Digest, descriptions and the four transaction machines, by the standards' own tables."""

import unittest

from fond_echo.core.telephony.errors import MalformedDescription, MalformedValue, NoCommonMedia
from fond_echo.core.telephony.sip.digest import (
    Challenge,
    Challenger,
    credentials,
    read_challenge,
    strongest,
)
from fond_echo.core.telephony.sip.message import read_message, response_to
from fond_echo.core.telephony.sip.sdp import (
    OPUS,
    PCMA,
    PCMU,
    Terms,
    agree,
    answer,
    offer,
    read_description,
)
from fond_echo.core.telephony.sip.transactions import (
    T1,
    Client,
    InviteClient,
    InviteServer,
    Server,
    cancelled,
    client_key,
    key_of,
)
from tests.core.telephony.test_message import FIELDS, message


class Digest(unittest.TestCase):
    def test_the_examples_of_the_standards(self):
        """RFC 7616 §3.9.1, and RFC 2617 §3.5 for no qop at all."""
        for algorithm, response in (
            ("MD5", "8ca523f5e9506fed4657c9700eebdbec"),
            ("SHA-256", "753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"),
        ):
            challenge = Challenge(
                "http-auth@example.org", "7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v", algorithm, "auth",
            )  # fmt: skip
            reported = credentials(
                challenge, "Mufasa", "Circle of Life", "GET", "/dir/index.html",
                cnonce="f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ",
            )  # fmt: skip
            self.assertIn(f'response="{response}"', reported)

    def test_challenges_are_read_and_the_stronger_is_taken(self):
        text = 'Digest realm="a, \\"b\\"", nonce="n=1", qop="auth-int,auth", algorithm=SHA-256, stale=TRUE'
        read = read_challenge(text)
        self.assertEqual(
            (read.realm, read.nonce, read.qop, read.stale), ('a, "b"', "n=1", "auth", True)
        )
        found = strongest(['Digest realm="r", nonce="1"', 'Digest realm="r", nonce="2", algorithm=SHA-256',
                           'Digest realm="r", nonce="3", algorithm=SHA-512-256', "Basic realm=x"])  # fmt: skip
        self.assertEqual(found.nonce, "2")
        self.assertIsNone(strongest(["Basic x"]))
        for bad in (
            "Basic x",
            "Digest realm=",
            'Digest realm="r"',
            'Digest realm="r", nonce="1", algorithm=X',
        ):
            with self.assertRaises(MalformedValue):
                read_challenge(bad)

    def test_answers_are_judged(self):
        for place in (0, 1):
            server = Challenger("tern", b"key")
            challenge = server.challenges(1_000.0)[place]
            challenge = read_challenge(str(challenge))  # as it goes over the wire

            def reported(password="pw", method="REGISTER", count=1, challenge=challenge):
                return credentials(
                    challenge, "isla", password, method, "sip:tern", cnonce="c", count=count
                )

            self.assertEqual(server.user_of(reported()), "isla")
            self.assertEqual(server.judge(reported(), "REGISTER", "pw", 1_001.0), "right")
            self.assertEqual(
                server.judge(reported(), "REGISTER", "pw", 1_001.0), "stale", "seen before"
            )
            self.assertEqual(server.judge(reported(count=2), "REGISTER", "pw", 1_001.0), "right")
            self.assertEqual(server.judge(reported(count=9), "REGISTER", "pw", 1_500.0), "stale")
            self.assertEqual(server.judge(reported("no"), "REGISTER", "pw", 1_001.0), "wrong")
            self.assertEqual(server.judge(reported(count=3), "INVITE", "pw", 1_001.0), "wrong")
            self.assertEqual(server.judge(reported(), "REGISTER", None, 1_001.0), "wrong")
            forged = reported().replace(challenge.nonce, "0." + "0" * 32)
            self.assertEqual(server.judge(forged, "REGISTER", "pw", 1_001.0), "wrong")
        self.assertEqual(server.judge("Digest x", "REGISTER", "pw", 1.0), "wrong")


OFFER = b"""v=0
o=isla 7001 3 IN IP4 quay.example
s=
c=IN IP4 192.0.2.4
t=0 0
m=image 40110 udptl t38
m=audio 40100 RTP/AVP 96 8 0 97
a=rtpmap:96 telephone-event/8000
a=rtpmap:97 iLBC/8000
a=ptime:30
a=sendonly
"""


class Descriptions(unittest.TestCase):
    def test_an_offer_is_answered_stream_by_stream(self):
        data, agreed = answer(read_description(OFFER), Terms("192.0.2.9", 20_000, 5))
        self.assertEqual(
            (agreed.host, agreed.port, agreed.codec, agreed.payload), ("192.0.2.4", 40100, PCMA, 8)
        )
        self.assertEqual((agreed.events, agreed.direction, agreed.packet_ms), (96, "recvonly", 30))
        back = read_description(data)
        self.assertEqual(
            [(each.kind, each.port) for each in back.media], [("image", 0), ("audio", 20_000)]
        )
        self.assertEqual(back.audio.formats, ("8", "96"))
        self.assertEqual(back.audio.direction, "recvonly")

    def test_both_sides_come_to_the_same(self):
        ours = Terms("192.0.2.9", 20_000, 5, codecs=(OPUS, PCMU))
        back, theirs = answer(
            read_description(offer(ours)), Terms("192.0.2.7", 30_000, 6, codecs=(PCMU, OPUS))
        )
        mine = agree(read_description(back), ours)
        self.assertEqual(
            (mine.codec, theirs.codec, mine.port, theirs.port), (OPUS, OPUS, 30_000, 20_000)
        )
        self.assertEqual((mine.direction, mine.events), ("sendrecv", 101))

    def test_holding_old_and_new(self):
        terms = Terms("h", 1, 1)
        for old, new, direction in (
            (b"a=sendonly", b"a=inactive", "inactive"),
            (b"a=sendonly", b"a=recvonly", "sendonly"),
            (b"a=sendonly\n", b"", "sendrecv"),
            (b"192.0.2.4", b"0.0.0.0", "inactive"),
        ):
            agreed = agree(read_description(OFFER.replace(old, new)), terms)
            self.assertEqual(agreed.direction, direction)
        session = OFFER.replace(b"a=sendonly\n", b"").replace(b"t=0 0", b"t=0 0\na=inactive")
        self.assertEqual(agree(read_description(session), terms).direction, "inactive")

    def test_nothing_in_common_and_what_is_no_description(self):
        terms = Terms("h", 1, 1)
        for old, new in (
            (b" 96 8 0 97", b" 97"),
            (b"audio 40100", b"audio 0"),
            (b"audio 40100 RTP/AVP", b"audio 40100 RTP/SAVP"),
        ):
            with self.assertRaises(NoCommonMedia):
                answer(read_description(OFFER.replace(old, new)), terms)
        for bad in (b"", b"v=1\n", b"hello", OFFER.replace(b"c=IN IP4 192.0.2.4", b"c=IN"), OFFER.replace(b"o=", b"x="),
                    OFFER.replace(b"40100", b"94010"), OFFER.replace(b"c=IN IP4 192.0.2.4\n", b""), OFFER + b"m=\n", b"v=0\n" * 9_000):  # fmt: skip
            with self.subTest(bad=bad[:60]), self.assertRaises(MalformedDescription):
                read_description(bad)


INVITE = read_message(message())
OPTIONS = read_message(message("OPTIONS sip:h SIP/2.0", FIELDS.replace("INVITE", "OPTIONS")))


def answered(status, request=INVITE):
    return response_to(request, status, tag="b")


class Tables(unittest.TestCase):
    def test_every_state_can_be_reached_and_left(self):
        for kind in (InviteClient, Client, InviteServer, Server):
            reached, fresh = set(), {kind.begins.to}
            while fresh:
                reached |= fresh
                after = {to.to for (state, _), to in kind.table.items() if state in fresh}
                fresh = after - reached
            with self.subTest(kind=kind.__name__):
                self.assertEqual({state for state, _ in kind.table}, reached - {"terminated"})
                self.assertIn("terminated", reached)

    def test_what_a_table_does_not_name_changes_nothing(self):
        given = read_message(message())
        machine = Server(given, 0.0, reliable=False)
        self.assertEqual(machine.receive(given, 1.0).send, [], "nothing was answered yet")
        self.assertEqual(machine.wake(100.0).happened, [])
        self.assertEqual(machine.state, "trying")


class Transactions(unittest.TestCase):
    def sent_until(self, machine, until):
        """The times at which a machine sends again, and what it tells."""
        times, reported = [], []
        while machine.due is not None and machine.due <= until:
            now = machine.due
            step = machine.wake(now)
            times += [now] * len(step.send)
            reported += [each.name for each in step.happened]
        return times, reported

    def test_an_invite_nobody_answers(self):
        times, reported = self.sent_until(InviteClient(INVITE, 0.0, False), 100.0)
        self.assertEqual(times, [0.5, 1.5, 3.5, 7.5, 15.5, 31.5])
        self.assertEqual(reported, ["timed-out", "ended"])
        times, reported = self.sent_until(InviteClient(INVITE, 0.0, True), 100.0)
        self.assertEqual((times, reported), ([], ["timed-out", "ended"]))

    def test_another_request_nobody_answers(self):
        times, reported = self.sent_until(Client(OPTIONS, 0.0, False), 100.0)
        self.assertEqual(times, [0.5, 1.5, 3.5, 7.5, 11.5, 15.5, 19.5, 23.5, 27.5, 31.5])
        self.assertEqual(reported, ["timed-out", "ended"])

    def test_an_invite_refused_is_acknowledged_every_time(self):
        machine = InviteClient(INVITE, 0.0, False)
        machine.receive(answered(180), 0.2)
        self.assertIsNone(machine.due, "ringing may go on for long")
        step = machine.receive(answered(486), 5.0)
        (ack,) = step.send
        self.assertEqual((ack.method, ack.sequence, ack.vias), ("ACK", (7, "ACK"), INVITE.vias))
        self.assertEqual(ack.target.tag, "b")
        self.assertEqual([each.message.status for each in step.happened], [486])
        again = machine.receive(answered(486), 6.0)
        self.assertEqual((len(again.send), again.happened), (1, []))
        self.assertEqual(self.sent_until(machine, 99.0)[1], ["ended"])

    def test_an_invite_accepted_tells_of_every_answer(self):
        machine = InviteClient(INVITE, 0.0, False)
        for at in (1.0, 1.5, 2.5):
            step = machine.receive(answered(200), at)
            self.assertEqual((step.send, len(step.happened)), ([], 1))
        self.assertEqual(machine.receive(answered(486), 3.0).happened, [])
        self.assertEqual(self.sent_until(machine, 99.0), ([], ["ended"]))

    def test_a_server_sends_its_last_word_again(self):
        machine = InviteServer(INVITE, 0.0, False)
        self.assertEqual(machine.receive(INVITE, 0.1).send, [])
        machine.respond(answered(180), 0.2)
        self.assertEqual(machine.receive(INVITE, 0.6).send[0].status, 180)
        machine.respond(answered(486), 1.0)
        times, reported = self.sent_until(machine, 8.0)
        self.assertEqual((times, reported), ([1.5, 2.5, 4.5], []))
        ack = read_message(
            message("ACK sip:2001@tern.example SIP/2.0", FIELDS.replace("INVITE", "ACK"))
        )
        machine.receive(ack, 8.1)
        self.assertEqual(self.sent_until(machine, 99.0), ([], ["ended"]))

    def test_a_server_that_nobody_acknowledges_gives_up(self):
        machine = InviteServer(INVITE, 0.0, False)
        machine.respond(answered(404), 0.0)
        times, reported = self.sent_until(machine, 99.0)
        self.assertEqual((len(times), reported), (10, ["timed-out", "ended"]))

    def test_another_server(self):
        machine = Server(OPTIONS, 0.0, False)
        machine.respond(answered(200, OPTIONS), 0.1)
        self.assertEqual(len(machine.receive(OPTIONS, 3.0).send), 1)
        self.assertEqual(machine.respond(answered(500, OPTIONS), 4.0).send, [])
        self.assertEqual(self.sent_until(machine, 99.0), ([], ["ended"]))
        self.assertAlmostEqual(64 * T1, 32.0)

    def test_transactions_are_told_apart(self):
        ack = read_message(
            message("ACK sip:2001@tern.example SIP/2.0", FIELDS.replace("INVITE", "ACK"))
        )
        self.assertEqual(key_of(INVITE), key_of(ack))
        cancel = cancelled(INVITE)
        self.assertEqual(cancel.sequence, (7, "CANCEL"))
        self.assertNotEqual(key_of(INVITE), key_of(cancel))
        self.assertEqual(client_key(INVITE)[0], client_key(cancel)[0])
        old = read_message(message(fields=FIELDS.replace("z9hG4bK1", "1")))
        self.assertEqual(key_of(old)[0], "one@quay.example")

    def test_a_transport_that_fails_ends_it(self):
        machine = InviteClient(INVITE, 0.0, True)
        self.assertEqual(
            [each.name for each in machine.failed(0.1).happened], ["timed-out", "ended"]
        )
        self.assertTrue(machine.over)
