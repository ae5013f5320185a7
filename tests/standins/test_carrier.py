"""The carrier that stands in: its switch without a socket, its errors, its scenario files."""

import asyncio
import itertools
import random
import unittest

from fond_echo.core.telephony.sip.calls import Account, Answered, Ended, Offered
from fond_echo.core.telephony.sip.endpoint import Endpoint
from fond_echo.core.telephony.sip.message import Request, read_message
from fond_echo.core.telephony.sip.registration import Registrar, Registration
from fond_echo.core.telephony.sip.sdp import offer
from fond_echo.core.telephony.sip.transaction_layer import Output, TransactionLayer
from fond_echo.core.telephony.sip.values import Hop, parse_address, parse_uri
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.scenario import read_scenario_file
from fond_echo.scenarios.by_phone import share_heard, words_behind
from fond_echo.softphone.impairments import ImpairedPath, Impairments
from fond_echo.standins.carrier.switch import Switch
from tests.core.telephony.network import THEM, US, Media, Network

CARRIER = Hop("192.0.2.9", 5060)


class AtTheCarrier:
    """The switch as a machine of the network."""

    due = None

    def __init__(self):
        self.switch = Switch(CARRIER.host, CARRIER.port, {"isla": "pw", "2001": "pw"})

    def receive(self, data, source, now):
        return Output(self.switch.receive(data, source, now))


class Switching(unittest.TestCase):
    def setUp(self):
        self.network = Network()
        self.carrier = AtTheCarrier()
        self.switch = self.carrier.switch
        self.ours, self.theirs = (
            Endpoint(*place[:2], Media(port), random.Random(port))
            for place, port in ((US, 1), (THEM, 3))
        )
        for machine, place in ((self.carrier, CARRIER), (self.ours, US), (self.theirs, THEM)):
            self.network.add(machine, place)
        self.switch.fixed["2001"] = parse_uri("sip:2001@192.0.2.1:5060")

    def call(self, number="2001", password="pw"):
        account = Account("isla", password)
        call, out = self.theirs.place(
            parse_uri(f"sip:{number}@192.0.2.9"), parse_address("<sip:isla@192.0.2.2>"),
            offer(Media(3).terms), self.network.now, hop=CARRIER, account=account,
        )  # fmt: skip
        self.network.out(out, THEM)
        self.network.run(self.network.now + 5)
        return call

    def ended(self):
        (found,) = self.network.of(Ended, THEM)
        return found.cause, found.status

    def test_a_call_goes_through_it_from_the_first_request_to_the_last(self):
        placed = self.call()
        (offered,) = self.network.of(Offered, US)
        described = Media(1).describe(offered.call, offered.call.remote_sdp)
        self.network.out(self.ours.accept(offered.call, described, self.network.now), US)
        self.network.run(self.network.now + 5)
        self.assertEqual(len(self.network.of(Answered)), 2)
        self.assertIsNone(offered.call.invite.fields.get("proxy-authorization"), "ours to know")
        self.network.out(self.ours.hang_up(offered.call, self.network.now), US)
        self.network.run(self.network.now + 5)
        self.assertEqual(placed.state, "ended")
        between = {
            (place, to) for _, place, to, _ in self.network.sent if CARRIER not in (place, to)
        }
        self.assertEqual(between, set(), "nothing went past it")
        methods = [method for method, _, _ in self.switch.seen]
        self.assertEqual(sorted(methods), ["ACK", "ACK", "BYE", "INVITE", "INVITE"])

    def test_who_may_not_and_what_is_not_there(self):
        self.call(password="other")
        self.assertEqual(self.ended(), ("forbidden", 403))
        self.setUp()
        self.call("2999")
        self.assertEqual(self.ended(), ("unreachable", 404))
        self.setUp()
        self.switch.signalling.unavailable = 1
        self.call()
        self.assertEqual(self.ended(), ("failed", 503))
        self.setUp()
        self.switch.signalling.dead = True
        self.call()
        self.network.run(self.network.now + 40)
        self.assertEqual(self.ended(), ("unreachable", 0))

    def test_a_registration_lasts_as_long_as_it_said(self):
        exchange = TransactionLayer(*THEM[:2], lambda *_: Output(), random.Random(1))
        registrar = Registrar(
            "tern", parse_uri("sip:192.0.2.9"), parse_address("<sip:isla@192.0.2.9>"),
            Account("isla", "pw"), 60,
        )  # fmt: skip
        registration = Registration(registrar, exchange)
        self.network.add(exchange, THEM)
        self.network.out(registration.wake(0.0), THEM)
        self.network.run(5)
        self.assertEqual(registration.state, "registered", registration.reason)
        self.assertEqual(str(self.switch.bindings["isla"].contact), "sip:isla@192.0.2.2:5060")
        self.assertIsNotNone(self.switch._find("isla", 50.0))
        self.assertIsNone(self.switch._find("isla", 70.0))
        # Nobody registers a number with the password of another.
        registrar = Registrar(
            "tern", parse_uri("sip:192.0.2.9"), parse_address("<sip:2001@192.0.2.9>"),
            Account("isla", "pw"), 60,
        )  # fmt: skip
        other = Registration(registrar, exchange)
        self.network.out(other.wake(self.network.now), THEM)
        self.network.run(10)
        self.assertEqual(other.state, "failed")
        self.assertNotIn("2001", self.switch.bindings)

    def test_it_does_not_loop_and_is_not_stopped(self):
        call, out = self.theirs.place(
            parse_uri("sip:2001@192.0.2.9"), parse_address("<sip:isla@192.0.2.2>"), b"", 0.0
        )
        ended = Request(
            call.invite.fields.having("max-forwards", "0"), b"", "INVITE", call.invite.uri
        )
        ((data, to),) = self.switch.receive(ended.to_bytes(), THEM, 0.0)
        self.assertEqual((read_message(data).status, to), (483, THEM))
        for rubbish in (b"", b"rubbish", b"SIP/2.0 200 OK\r\n\r\n", out.send[0][0][:80]):
            self.assertEqual(self.switch.receive(rubbish, THEM, 0.0), [])


class Ways(unittest.IsolatedAsyncioTestCase):
    async def through(self, **impairments):
        found = []
        way = ImpairedPath(Impairments(**impairments), found.append)
        for number in range(2_000):
            way.send(number.to_bytes(2, "big"))
        await asyncio.sleep(0.3)
        return [int.from_bytes(each, "big") for each in found]

    async def test_each_fault_does_what_it_says(self):
        self.assertEqual(await self.through(), [*range(2_000)])
        self.assertAlmostEqual(len(await self.through(loss=0.1)), 1_800, delta=60)
        doubled = await self.through(duplicated=0.1)
        self.assertAlmostEqual(len(doubled), 2_200, delta=60)
        self.assertEqual(sorted(set(doubled)), [*range(2_000)])
        swapped = await self.through(reordered=0.1)
        self.assertNotEqual(swapped, sorted(swapped))
        self.assertGreaterEqual(len(swapped), 1_999)
        late = await self.through(late=0.05, late_ms=100)
        self.assertEqual(sorted(late), [*range(2_000)])
        self.assertAlmostEqual(sum(a > b for a, b in itertools.pairwise(late)), 1, delta=60)
        self.assertNotEqual(late, sorted(late))


class Scenarios(unittest.TestCase):
    def test_what_is_right_and_what_is_not(self):
        good = """\
scenario: Piet asks for the fares
people: {piet: "+441632960102", isla: {number: "2", impairments: {loss: 0.1}, when_called: busy}}
steps: [{who: piet, dials: "2001"}, {who: piet, hears: [a, b]}, {who: isla, hangs_up: true}]
"""
        found = read_scenario_file(good, "calls.yaml")
        self.assertEqual((found.people["piet"].number, len(found.steps)), ("+441632960102", 3))
        for old, new, what in (
            ("dials:", "phones:", "phones"),
            ('dials: "2001"', 'dials: "1", waits: 2s', "waits and dials"),
            ("{who: isla, hangs", "{who: maren, hangs", "'maren' is none of piet, isla"),
            ("{who: isla, hangs", "{hangs", "say who does it: piet, isla"),
            ('dials: "2001"', 'picks: "2001"', "picks is only for simulated time"),
            ("hangs_up: true}", "hangs_up: true, expect: {ended: true}}", "expect: only in sim"),
            ("when_called: busy", "when_called: asleep", "when_called"),
            ("scenario:", "noise: {}\nscenario:", "noise: only in simulated time"),
            ("people:", "memory:", "who is only for telephones"),
            ("steps: [", "steps: {", "calls.yaml"),
        ):
            with self.assertRaises(InvalidFile, msg=new) as caught:
                read_scenario_file(good.replace(old, new), "calls.yaml")
            self.assertIn(what, str(caught.exception))

    def test_most_of_the_words_must_be_heard(self):
        self.assertEqual(share_heard("Four pounds.", ["a", "four", "pounds"]), 1.0)
        self.assertEqual(share_heard("Four pounds.", ["pounds", "of", "tea"]), 0.5)
        self.assertEqual(share_heard("Four pounds.", []), 0.0)
        breath = "one moment high water is at noon".split()
        self.assertEqual(words_behind("One moment.", breath), breath[2:])
        self.assertEqual(words_behind("Goodbye.", breath), breath)
