"""Who is let in when many ring at once, or do not acknowledge: the rest are refused at once, and
counted."""

import asyncio
import unittest
from types import SimpleNamespace

from fond_echo.core.telephony.sip.calls import Call
from fond_echo.core.telephony.sip.values import Hop
from fond_echo.phone.admission import Verdict
from fond_echo.phone.incoming import MOST_HALF_OPEN, SETUPS_AT_ONCE, IncomingCalls


class Session:
    def __init__(self, call):
        self.call, self.begun_at, self.start = call, 0.0, None


class Host:
    """A channel that takes calls in no time, at a clock of its own."""

    channel = "test"

    def __init__(self, max_calls=500):
        self.clock, self.answers, self.sessions = 0.0, [], {}
        self.connector = SimpleNamespace(max_calls=max_calls)
        self.ticker = SimpleNamespace(full=False)
        self.registrations = SimpleNamespace(account_at=lambda host: None)
        self.backend = SimpleNamespace(is_stalled=False, rang=lambda *_: None)
        self.endpoint = SimpleNamespace(
            reject=lambda call, status, now, fields=(): self.answers.append((status, dict(fields))),
            ring=lambda call, now: None,
            accept=lambda call, described, now: self.answers.append((200, {})),
        )
        self.calls = IncomingCalls(self, SimpleNamespace(judge=lambda call, now: Verdict()))
        self.calls._prepared = self.prepared

    async def prepared(self, call):
        await asyncio.sleep(0)
        return Session(call), b""

    def now(self):
        return self.clock

    def done(self, output):
        pass

    def run(self, work):
        pass

    async def rings(self, host="192.0.2.7", acknowledged=False):
        call = Call(f"c{len(self.answers)}-{host}", True, "2001", "isla", None, Hop(host, 5060))
        await self.calls.admit(call)
        if acknowledged and call.id in self.sessions:
            self.sessions[call.id].begun_at = 1.0
        return self.answers[-1]


class Admission(unittest.IsolatedAsyncioTestCase):
    async def test_who_does_not_acknowledge_keeps_nobody_else_waiting(self):
        host = Host()
        for _ in range(40):
            host.clock += 0.1
            await host.rings("192.0.2.66")
        self.assertEqual(len(host.sessions), MOST_HALF_OPEN)
        self.assertEqual(host.answers[-1], (503, {"retry-after": "10"}))
        self.assertEqual(host.calls.refused, {"half_open": 40 - MOST_HALF_OPEN})
        self.assertEqual(await host.rings("192.0.2.7"), (200, {}))

    async def test_a_burst_is_let_in_as_fast_as_calls_can_begin(self):
        host = Host()
        together = [host.rings(f"192.0.2.{n}", acknowledged=True) for n in range(100)]
        await asyncio.gather(*together)
        self.assertEqual(len(host.sessions), int(SETUPS_AT_ONCE))
        self.assertEqual(host.calls.refused, {"too_fast": 100 - int(SETUPS_AT_ONCE)})
        taken = 0
        for _ in range(400):
            host.clock += 0.01
            taken += (await host.rings(acknowledged=True))[0] == 200
        # Four seconds at a hundred a second: 45 of them begin.
        self.assertAlmostEqual(taken, 180, delta=3)

    async def test_a_channel_s_own_limit_counts_those_that_are_being_prepared(self):
        host = Host(max_calls=3)
        await asyncio.gather(*(host.rings(f"192.0.2.{n}") for n in range(8)))
        self.assertEqual(len(host.sessions), 3)
        self.assertEqual(host.calls.refused, {"max_calls": 5})

    async def test_a_busy_loop_and_a_stalled_process_refuse_and_say_why(self):
        host = Host()
        host.ticker.full = True
        self.assertEqual((await host.rings())[0], 503)
        host.ticker.full, host.backend.is_stalled = False, True
        self.assertEqual((await host.rings())[0], 503)
        host.backend.is_stalled = False
        self.assertEqual((await host.rings())[0], 200)
        facts = host.calls.facts
        self.assertEqual((facts["refused_busy"], facts["refused_stalled"]), (1, 1))
        self.assertEqual(facts["set_up_ms_p95"], 0.0)
