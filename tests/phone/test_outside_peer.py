"""Debian's SIP traffic generator as the other side: it calls us, is called by us, and registers us,
with scenarios of its own and of ours."""

import asyncio
import os
import tempfile
import unittest
from pathlib import Path
from typing import ClassVar

from sqlalchemy import select

from fond_echo.core.telephony.sip.values import Hop
from fond_echo.softphone.handset import handset
from fond_echo.store.event_records import Event
from fond_echo.store.local import free_port
from tests.support.phone import PHONE, PLACING, OnAPhone, ask_for

SCENARIOS = Path(__file__).parent / "scenarios"


class Peer:
    """Runs the generator."""

    async def sipp(self, *options, port=None):
        """Start it; gives what ends it, and where it listens."""
        port = port or free_port()
        command = (
            "sipp",
            "-i",
            "127.0.0.1",
            "-p",
            str(port),
            "-nostdin",
            "-timeout",
            "40",
            *options,
        )
        return port, await asyncio.create_subprocess_exec(
            *command,
            cwd=tempfile.gettempdir(),
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.STDOUT,
        )

    async def finished(self, run):
        reported, _ = await asyncio.wait_for(run.communicate(), 60)
        return run.returncode, reported.decode(errors="replace")[-3_000:]


class CallsUs(Peer, OnAPhone):
    """A channel that it calls."""

    async def peer(self, *options, number="2001", calls=1):
        _, run = await self.sipp(
            f"127.0.0.1:{self.port}", "-s", number, "-m", str(calls), "-l", "2", "-r", "4", *options
        )
        return await self.finished(run)

    async def ended(self, count=1):
        """How calls ended, once so many have."""
        await asyncio.sleep(0.3)  # there may be more
        for _ in range(200):
            async with self.database.reading() as session:
                found = await session.scalars(select(Event).where(Event.type == "call.ended"))
                ends = [(each.data["cause"], each.data["by"]) for each in found]
            if len(ends) > count or (len(ends) == count and not self.server.sessions):
                break
            await asyncio.sleep(0.1)
        self.assertEqual(len(self.server.sessions), 0)
        return ends


class Called(CallsUs):
    """It calls us."""

    async def test_its_calls_are_answered_and_ended(self):
        code, reported = await self.peer("-sn", "uac", "-d", "400", calls=4)
        self.assertEqual(code, 0, reported)
        self.assertRegex(reported, r"Successful call +\| +0 +\| +4")
        self.assertEqual(await self.ended(4), [("hung-up", "them")] * 4)

    async def test_over_tcp(self):
        code, reported = await self.peer("-sn", "uac", "-d", "400", "-t", "t1", calls=2)
        self.assertEqual(code, 0, reported)
        self.assertEqual(await self.ended(2), [("hung-up", "them")] * 2)

    async def test_a_number_that_leads_nowhere(self):
        code, reported = await self.peer("-sn", "uac", number="2999")
        self.assertEqual(code, 1, reported)
        self.assertRegex(reported, r"Failed call +\| +0 +\| +1")

    @unittest.skipUnless(os.geteuid() == 0, "it sends what it recorded over raw sockets")
    async def test_a_key_beside_the_sound(self):
        # Its sound comes from another port than its packets of the key: a second source in the call.
        code, reported = await self.peer("-sf", str(SCENARIOS / "key.xml"))
        self.assertEqual(code, 0, reported)
        self.assertEqual(await self.ended(), [("hung-up", "them")])
        self.assertIn(("key", "fares", "answered"), await self.turns())

    async def test_a_key_hold_and_resume(self):
        code, reported = await self.peer("-sf", str(SCENARIOS / "hold.xml"))
        self.assertEqual(code, 0, reported)
        self.assertEqual(await self.ended(), [("hung-up", "them")])
        self.assertIn(("key", "fares", "answered"), await self.turns())
        call = await self.call()
        directions = [each["direction"] for each in call.timeline if each["kind"] == "changed"]
        self.assertEqual(directions, ["recvonly", "sendrecv"])

    async def test_a_call_without_a_description(self):
        code, reported = await self.peer("-sf", str(SCENARIOS / "offerless.xml"))
        self.assertEqual(code, 0, reported)
        self.assertEqual(await self.ended(), [("hung-up", "them")])


class Proving(CallsUs):
    """Callers are let in who know the password."""

    passwords: ClassVar = {"crew-pass": "fairwinds"}

    def connector(self, port, media):
        text = PHONE % (port, media, media + 9)
        return text.replace(
            "peers: [127.0.0.1]", "callers: [{user: crew, password: {secret: crew-pass}}]"
        )

    async def prove(self, password):
        # The generator knows MD5 only, and takes the first challenge that it is given.
        challenger = self.server._admission._challenger
        offered = challenger.challenges
        challenger.challenges = lambda now, **more: offered(now, **more)[-1:]
        scenario = str(SCENARIOS / "digest.xml")
        return await self.peer("-sf", scenario, "-au", "crew", "-ap", password)

    async def test_who_knows_the_password_is_let_in(self):
        code, reported = await self.prove("fairwinds")
        self.assertEqual(code, 0, reported)
        self.assertEqual(await self.ended(), [("hung-up", "them")])

    async def test_who_does_not_is_refused_and_at_last_not_heard(self):
        code, reported = await self.prove("foulwinds")
        self.assertEqual(code, 1, reported)
        self.assertEqual(await self.ended(0), [])
        code, reported = await self.prove("seawinds")
        now = self.server.now()
        self.assertTrue(self.server._admission.hears("127.0.0.1", now))
        for _ in range(8):
            self.server._guard.strike("127.0.0.1", now)
        self.assertFalse(self.server._admission.hears("127.0.0.1", now))
        self.assertTrue(self.server._admission.hears("127.0.0.1", now + 400))


class Placed(Peer, OnAPhone):
    """We call it."""

    async def asyncSetUp(self):
        self.theirs = free_port()
        await super().asyncSetUp()

    def connector(self, port, media):
        return PLACING % (port, media, media + 9, f"127.0.0.1:{self.theirs}")

    async def outcome(self, scenario):
        """What a call to it comes to, by a scenario of ours."""
        _, run = await self.sipp("-sf", str(SCENARIOS / scenario), "-m", "1", port=self.theirs)
        await asyncio.sleep(0.5)
        await ask_for(self, "+441632960100")
        call = await self.call()
        return call, *(await self.finished(run))

    async def test_busy(self):
        call, code, reported = await self.outcome("busy.xml")
        self.assertEqual((call.cause, call.status, code), ("busy", 486, 0), reported)

    async def test_nobody_answers_and_the_call_is_taken_back(self):
        call, code, reported = await self.outcome("cancelled.xml")
        self.assertEqual((call.cause, call.status, code), ("no-answer", 487, 0), reported)


class Registering(Peer, unittest.IsolatedAsyncioTestCase):
    """It is a registrar that challenges."""

    async def test_we_prove_who_we_are(self):
        theirs, run = await self.sipp("-sf", str(SCENARIOS / "registrar.xml"), "-m", "1")
        await asyncio.sleep(0.5)
        desk = await self.enterAsyncContext(handset("desk"))
        await desk.register(Hop("127.0.0.1", theirs), "pw")
        self.assertEqual(desk.registration.state, "registered", desk.registration.reason)
        code, reported = await self.finished(run)
        self.assertEqual(code, 0, reported)
