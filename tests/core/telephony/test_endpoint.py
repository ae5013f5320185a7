"""Two endpoints and a registrar over a network that loses, doubles and delays; no socket, no clock."""

import itertools
import random
import unittest

from fond_echo.core.telephony.sip.calls import (
    Account,
    Answered,
    Changed,
    Ended,
    KeyReported,
    Offered,
    Registered,
    Ringing,
)
from fond_echo.core.telephony.sip.digest import Challenger
from fond_echo.core.telephony.sip.message import Fields, Request, read_message, response_to
from fond_echo.core.telephony.sip.registration import Registrar, Registration
from fond_echo.core.telephony.sip.sdp import Terms, offer, read_description
from fond_echo.core.telephony.sip.transaction_layer import Output, TransactionLayer
from fond_echo.core.telephony.sip.values import Hop, parse_address, parse_uri
from tests.core.telephony.network import THEM, US, Media, Network, OverANetwork
from tests.core.telephony.test_message import FIELDS, message


class Talking(OverANetwork):
    def test_a_call_is_answered_and_hung_up(self):
        placed, call = self.picked_up()
        self.assertEqual((call.number, call.caller), ("2001", "isla"))
        self.assertEqual(len(self.network.of(Ringing, THEM)), 1)
        self.assertEqual(
            (len(self.network.of(Answered, THEM)), len(self.network.of(Answered, US))), (1, 1)
        )
        self.assertEqual(read_description(placed.remote_sdp).audio.port, 20_000)
        self.network.out(self.ours.hang_up(call, self.network.now), US)
        self.network.run(self.network.now + 60)
        ends = {place: (e.cause, e.by) for place, e in self.network.events if isinstance(e, Ended)}
        self.assertEqual(ends, {US: ("hung-up", "us"), THEM: ("hung-up", "them")})
        self.assertEqual((self.ours.open_calls, self.theirs.open_calls), ([], []))
        self.assertIsNone(self.ours.due)
        self.assertIsNone(self.theirs.due)

    def test_it_is_so_on_a_network_that_loses_and_doubles(self):
        for lose in (0.1, 0.3):
            self.begin(lose=lose, double=0.2)
            placed = self.call()
            for _ in range(30):
                self.network.run(self.network.now + 1)
                if self.network.of(Offered, US):
                    break
            (offered,) = self.network.of(Offered, US)
            call = offered.call
            self.network.out(
                self.ours.accept(
                    call, Media(20_000).describe(call, call.remote_sdp), self.network.now
                ),
                US,
            )
            self.network.run(self.network.now + 25)
            self.assertEqual((placed.state, call.state), ("answered", "answered"))
            self.assertEqual(
                (len(self.network.of(Answered, THEM)), len(self.network.of(Answered, US))), (1, 1)
            )
            self.network.out(self.theirs.hang_up(placed, self.network.now), THEM)
            self.network.run(self.network.now + 90)
            self.assertEqual(len(self.network.of(Ended, US)), 1)

    def test_outcomes_of_calls(self):
        for status, cause in (
            (486, "busy"),
            (603, "rejected"),
            (480, "no-answer"),
            (404, "unreachable"),
            (500, "failed"),
            (403, "forbidden"),
        ):
            self.begin()
            self.call()
            call = self.offered()
            self.network.out(self.ours.reject(call, status, self.network.now), US)
            self.network.run(self.network.now + 40)
            (ended,) = self.network.of(Ended, THEM)
            self.assertEqual((ended.cause, ended.by, ended.status), (cause, "them", status))
        self.begin()
        self.network._machines.pop(US)
        self.call()
        self.network.run(40)
        (ended,) = self.network.of(Ended, THEM)
        self.assertEqual((ended.cause, ended.by), ("unreachable", "network"))

    def test_a_caller_who_gives_up(self):
        placed = self.call()
        call = self.offered()
        self.network.out(self.ours.ring(call, self.network.now), US)
        self.network.run(self.network.now + 1)
        self.network.out(self.theirs.hang_up(placed, self.network.now), THEM)
        self.network.run(self.network.now + 40)
        (ours,), (theirs,) = self.network.of(Ended, US), self.network.of(Ended, THEM)
        self.assertEqual((ours.cause, ours.by), ("cancelled", "them"))
        self.assertEqual((theirs.cause, theirs.status), ("cancelled", 487))
        self.assertIsNone(self.ours.due)

    def test_one_who_gives_up_as_it_is_answered(self):
        placed = self.call()
        call = self.offered()
        self.network.out(self.theirs.hang_up(placed, self.network.now), THEM)
        description = Media(20_000).describe(call, call.remote_sdp)
        self.network.out(self.ours.accept(call, description, self.network.now), US)
        self.network.run(self.network.now + 40)
        self.assertEqual(len(self.network.of(Ended, US)), 1)
        self.assertEqual(self.ours.open_calls + self.theirs.open_calls, [])

    def test_an_answer_nobody_acknowledges(self):
        self.call()
        call = self.offered()
        self.network._machines.pop(THEM)
        self.network.out(self.ours.accept(call, b"", self.network.now), US)
        begin = self.network.now
        self.network.run(begin + 100)
        (ended,) = self.network.of(Ended, US)
        self.assertEqual((ended.cause, ended.by), ("no-ack", "network"))
        again = [
            at - begin
            for at, place, _, data in self.network.sent
            if place == US and data.startswith(b"SIP/2.0 200")
        ]
        self.assertEqual([round(each, 1) for each in again[:6]], [0.0, 0.5, 1.5, 3.5, 7.5, 11.5])

    def within(self, call, method, fields=(), body=b""):
        request, call.dialog = call.dialog.request(
            method, self.theirs.transactions.via(), body=body
        )
        pairs = Fields((*request.fields.pairs, *fields))
        request = Request(pairs, body, method, request.uri)
        answers = []
        out = self.theirs.transactions.ask(
            request, US, self.network.now, lambda r, at: answers.append(r) or Output()
        )
        self.network.out(out, THEM)
        self.network.run(self.network.now + 2)
        return answers

    def test_keys_hold_and_what_does_not_fit(self):
        placed, call = self.picked_up()
        reported = self.within(
            placed,
            "INFO",
            [("content-type", "application/dtmf-relay")],
            b"Signal= 5\r\nDuration=160\r\n",
        )
        self.assertEqual(reported[-1].status, 200)
        self.assertEqual([each.key for each in self.network.of(KeyReported, US)], ["5"])
        held = offer(Terms("192.0.2.2", 30_000, 1, direction="sendonly"))
        media = [("contact", "<sip:192.0.2.2:5060>"), ("content-type", "application/sdp")]
        reported = self.within(placed, "INVITE", media, held)
        self.assertEqual(read_description(reported[-1].body).audio.direction, "recvonly")
        self.assertEqual(len(self.network.of(Changed, US)), 1)
        self.assertEqual(
            self.within(placed, "INVITE", media, held)[-1].status,
            491,
            "the one before has no ACK yet",
        )
        call.retransmit_at = None
        wrong = held.replace(b" 0 8 101", b" 97")
        self.assertEqual(self.within(placed, "INVITE", media, wrong)[-1].status, 488)
        self.assertEqual(call.state, "answered")
        placed.dialog = placed.dialog.__class__(**{**vars(placed.dialog), "local_cseq": 0})
        self.assertEqual(self.within(placed, "INFO")[-1].status, 500, "older than what came before")

    def test_requests_outside_of_calls(self):
        for method, extra, status in (
            ("OPTIONS", "", 200), ("REGISTER", "", 405), ("REFER", "", 405), ("BOAT", "", 501), ("BYE", "", 405),
            ("INVITE", "Require: 100rel\nContact: <sip:a@h>\n", 420), ("INVITE", "", 400),
            ("INVITE", "Contact: <sip:a@h>\nContent-Type: text/plain\n", 415), ("CANCEL", "", 481),
        ):  # fmt: skip
            self.begin()
            body = "boats" if "text/plain" in extra else ""
            fields = (
                FIELDS.replace("7 INVITE", f"7 {method}").replace(
                    "Length: 0", f"Length: {len(body)}"
                )
                + extra
            )
            out = self.ours.receive(
                message(f"{method} sip:2001@192.0.2.1 SIP/2.0", fields, body), THEM, 0.0
            )
            with self.subTest(method=method, extra=extra):
                self.assertEqual(read_message(out.send[-1][0]).status, status)
        inside = FIELDS.replace("7 INVITE", "7 BYE").replace(
            "<sip:2001@tern.example>", "<sip:2001@tern.example>;tag=x"
        )
        out = self.ours.receive(message("BYE sip:2001@192.0.2.1 SIP/2.0", inside), THEM, 0.0)
        self.assertEqual(read_message(out.send[-1][0]).status, 481)

    def test_a_request_that_came_on_two_ways_is_one(self):
        self.begin()
        fields = FIELDS + "Contact: <sip:a@h>\n"
        statuses = []
        for branch in ("z9hG4bKone", "z9hG4bKone", *(f"z9hG4bKway{n}" for n in range(100))):
            again = fields.replace(FIELDS.partition("branch=")[2].partition("\n")[0], branch)
            self.assertIn(branch, again)
            out = self.ours.receive(message("INVITE sip:2001@h SIP/2.0", again), THEM, 0.0)
            statuses.append(read_message(out.send[-1][0]).status)
        self.assertEqual(statuses, [100, 100, *[482] * 100])
        self.assertEqual(len(self.ours.open_calls), 1)

    def test_answers_go_back_where_the_request_came_from(self):
        fields = FIELDS.replace("7 INVITE", "7 OPTIONS").replace(
            "branch=z9hG4bK1", "branch=z9hG4bK1;rport"
        )
        out = self.ours.receive(
            message("OPTIONS sip:h SIP/2.0", fields), Hop("198.51.100.7", 40_000), 0.0
        )
        self.assertEqual(out.send[0][1], Hop("198.51.100.7", 40_000))
        via = read_message(out.send[0][0]).vias[0]
        self.assertEqual(
            (via.parameter("received"), via.parameter("rport")), ("198.51.100.7", "40000")
        )

    def test_nothing_stops_it(self):
        chance = random.Random(1)
        good = message(fields=FIELDS + "Contact: <sip:a@h>\n")
        for number in range(300):
            data = bytearray(good.replace(b"z9hG4bK1", b"z9hG4bK%d" % number))
            for _ in range(chance.randint(0, 5)):
                data[chance.randrange(len(data))] = chance.randrange(256)
            self.ours.receive(bytes(data), THEM, 0.0)
        self.ours.wake(100.0)
        self.ours.wake(200.0)
        self.assertEqual(len(self.network.of(Offered)), 0)


class Office:
    """A registrar that challenges."""

    def __init__(self, place, password="pw"):
        self.transactions = TransactionLayer(*place[:2], self.requested, random.Random(1))
        self.challenger = Challenger("tern", b"k")
        self.password, self.silent, self.least = password, False, 0
        self.contacts = []

    due = property(lambda self: self.transactions.due)

    def wake(self, now):
        return self.transactions.wake(now)

    def receive(self, data, source, now):
        return Output() if self.silent else self.transactions.receive(data, source, now)

    def requested(self, requested, now):
        request = requested.request
        given = request.fields.get("authorization") or ""
        seconds = int(request.fields.get("expires"))
        if not given or self.challenger.judge(given, "REGISTER", self.password, now) != "right":
            fields = [("www-authenticate", str(each)) for each in self.challenger.challenges(now)]
            return self.transactions.answer(
                requested, response_to(request, 401, tag="o", fields=fields), now
            )
        if 0 < seconds < self.least:
            return self.transactions.answer(
                requested,
                response_to(request, 423, tag="o", fields=[("min-expires", str(self.least))]),
                now,
            )
        self.contacts.append((now, request.fields.get("contact"), seconds))
        contact = f"{request.fields.get('contact')};expires={seconds}"
        return self.transactions.answer(
            requested, response_to(request, 200, tag="o", fields=[("contact", contact)]), now
        )


class Registering(unittest.TestCase):
    def begin(self, password="pw", seconds=100):
        self.network = Network(lose=0.05)
        self.office = Office(THEM, password)
        self.transactions = TransactionLayer(*US[:2], lambda *_: Output(), random.Random(2))
        registrar = Registrar(
            "tern",
            parse_uri("sip:192.0.2.2"),
            parse_address("<sip:desk@tern.example>"),
            Account("desk", "pw"),
            seconds,
        )
        registration = Registration(registrar, self.transactions)

        class Both:
            due = property(
                lambda _: min(
                    (d for d in (registration.due, self.transactions.due) if d is not None),
                    default=None,
                )
            )
            receive = self.transactions.receive

            def wake(_, now):  # noqa: N805
                return self.transactions.wake(now).join(registration.wake(now))

        self.network.add(Both(), US)
        self.network.add(self.office, THEM)
        return registration

    def test_it_is_told_and_told_again_in_time(self):
        registration = self.begin()
        self.network.run(300)
        self.assertEqual((registration.state, registration.reason), ("registered", ""))
        times = [at for at, contact, _ in self.office.contacts]
        self.assertGreaterEqual(len(times), 3)
        self.assertTrue(all(70 < b - a < 100 for a, b in itertools.pairwise(times)), times)
        self.assertEqual(self.office.contacts[0][1], "<sip:desk@192.0.2.1:5060>")
        self.network.out(registration.leave(self.network.now), US)
        self.network.run(320)
        self.assertEqual((registration.state, self.office.contacts[-1][2]), ("not-registered", 0))

    def test_a_wrong_password_and_a_registrar_that_is_away(self):
        registration = self.begin(password="another")
        self.network.run(10)
        self.assertEqual((registration.state, registration.reason), ("failed", "401 Unauthorized"))
        self.assertGreater(registration.due, 10)
        registration = self.begin()
        self.office.silent = True
        self.network.run(600)
        self.assertEqual(registration.reason, "the registrar does not answer")
        self.office.silent = False
        self.network.run(1_000)
        self.assertEqual(registration.state, "registered")
        reported = [(event.seconds, event.problem) for event in self.network.of(Registered)]
        self.assertEqual(reported[-1], (100.0, ""))

    def test_a_registrar_that_wants_longer(self):
        registration = self.begin(seconds=60)
        self.office.least = 900
        self.network.run(5)
        self.assertEqual((registration.state, self.office.contacts[0][2]), ("registered", 900))
