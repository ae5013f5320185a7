"""A phone channel with a real endpoint on loopback and real records; what is said is warbles."""

import asyncio
import unittest
from unittest import mock

from sqlalchemy import select

from fond_echo.documents.call_handling import Speaking
from fond_echo.documents.digest import digest
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.phone import read_phone
from fond_echo.phone.session import Session
from fond_echo.softphone.handset import handset
from fond_echo.store.event_records import Event
from fond_echo.store.records import Assistant, Conversation, Revision
from tests.support.phone import PHONE, OnAPhone
from tests.support.warbles import understood, warble

OTHER = """\
assistant: gale-desk
voice: tern
greeting: This is the gale desk.
routes:
  - route: which
    examples: [How much is a ticket?]
    reply: {text: "You called {{ variables.dialed }}."}
fallback:
  reply: {text: Nothing else.}
"""


class Numbers(OnAPhone):
    """One line, two numbers, an assistant each."""

    def connector(self, port, media):
        plain = super().connector(port, media)
        return plain.replace(
            'numbers: ["2001"]', 'numbers: ["2001", "2002"]\nassistants: {"2002": gale-desk}'
        )

    speaking = Speaking(
        "tern", "Tern Sound Ferries.", numbers={"2002": Speaking("tern", "This is the gale desk.")}
    )

    async def asyncSetUp(self):
        await super().asyncSetUp()
        files = {"assistant.yaml": OTHER}
        async with self.database.writing() as session:
            session.add(Revision(digest=digest(files), assistant="gale-desk", files=files))
            await session.flush()
            session.add(Assistant(name="gale-desk", draft=digest(files), live=digest(files)))

    async def test_each_number_leads_to_its_own(self):
        for number, greeting in (("2002", "gale desk"), ("2001", "tern sound ferries")):
            async with handset() as caller:
                await caller.dial(self.number(number))
                await self.hears(caller, greeting)
                if number == "2002":
                    await caller.say(warble("How much is a ticket?"))
                    await self.hears(caller, "you called")


class Calls(OnAPhone):
    async def test_a_caller_asks_by_voice_and_key_and_says_goodbye(self):
        async with handset() as caller:
            await caller.dial(self.number())
            self.assertTrue(caller.rang.is_set())
            await self.hears(caller, "tern sound ferries")
            await caller.say(warble("When is the next boat to Pell?"))
            await self.hears(caller, "the boat leaves at noon")
            caller.press("3")
            await self.hears(caller, "four pounds")
            # A second key while the first is being answered waits for it.
            caller.press("33")
            await self.hears(caller, "four pounds")
            await caller.say(warble("Goodbye."))
            await self.hears(caller, "fair winds")
            await asyncio.wait_for(caller.over.wait(), 10)
            self.assertEqual((caller.ended.cause, caller.ended.by), ("hung-up", "them"))
        self.assertEqual(
            await self.turns(),
            [("joined", "", "answered"), ("speech", "next-sailing", "answered"), ("key", "fares", "answered"),
             ("key", "fares", "answered"), ("key", "fares", "answered"),
             ("speech", "fallback", "answered")],
        )  # fmt: skip
        (requested,) = self.world.logic.requested
        # On a machine with more to do than it can, a call's sound suffers: so it is with real ones.
        self.assertIn("boat to Pell", requested.turn.text)
        self.assertEqual(requested.turn.arrived_as, "speech")

        async def reported():
            async with self.database.reading() as session:
                (conversation,) = (await session.scalars(select(Conversation))).all()
                wanted = select(Event).where(Event.type.like("%call.%")).order_by(Event.id)
                return conversation, (await session.scalars(wanted)).all()

        # The call is over before its end is written down.
        conversation, events = await reported()
        for _ in range(100):
            if events[-1].type.endswith(".ended"):
                break
            await asyncio.sleep(0.1)
            conversation, events = await reported()
        self.assertTrue(conversation.state["ended"])
        kinds = [each.type.rpartition(".")[2] for each in events]
        self.assertEqual(
            [each for each in kinds if each != "barge-in"],
            ["ringing", "answered", "greeted", "said", "key", "key", "key", "said", "ended"],
        )
        ended = events[-1].data
        self.assertEqual((ended["cause"], ended["by"]), ("hung-up", "us"))
        self.assertGreater(ended["r_factor"], 20)
        self.assertEqual(ended["unknown_source_packets"], 0)

    async def test_a_key_before_we_know_that_we_were_heard_to_answer(self):
        begin = Session.begin

        def late(session, now):
            asyncio.get_running_loop().call_later(0.4, begin, session, now)

        with mock.patch.object(Session, "begin", late):
            async with handset() as caller:
                await caller.dial(self.number())
                caller.press("3")
                await self.hears(caller, "four pounds")

    async def silent(self):
        async with handset("piet") as caller:
            await caller.dial(self.number())
            heard = []
            for _ in range(9):
                heard.append(understood(await caller.listen(quiet=0.6)))
                if caller.over.is_set():
                    break
            return [each for each in heard if each]

    async def test_who_says_nothing_and_who_is_not_let_in(self):
        silent = asyncio.create_task(self.silent())
        async with handset() as first, handset() as wrong, handset() as second, handset() as third:
            await wrong.dial(self.number("9999"))
            self.assertEqual((wrong.ended.cause, wrong.ended.status), ("unreachable", 404))
            await first.dial(self.number())
            # Two are there: the third is asked to come again.
            await second.dial(self.number())
            self.assertEqual(second.ended.status, 503)
            await first.say(warble("When is the next boat to Pell?"))
            await self.hears(first, "the boat leaves at noon")
            await first.hang_up()
            await asyncio.sleep(0.2)
            await third.dial(self.number())
            self.assertTrue(third.answered.is_set())
        said = " ".join(await silent)
        self.assertRegex(said, "tern sound ferries.*are you there.*i hang up")
        self.assertEqual(len(self.server.sessions), 0)


class Descriptions(unittest.TestCase):
    def test_errors_at_their_places(self):
        good = PHONE % (5_060, 20_000, 20_100)
        described = read_phone(good, "channel.yaml")
        self.assertTrue(described.may_call("127.0.0.1"))
        self.assertFalse(described.may_call("192.0.2.1"))
        self.assertTrue(described.leads_here("2001"))
        for old, new, what in (
            ("peers: [127.0.0.1]\n", "", "nobody can call"),
            ("peers: [127.0.0.1]", "peers: [here]", "channel.yaml:4"),
            ("host: 127.0.0.1", "host: somewhere", "channel.yaml:2"),
            ("[20000, 20100]", "[20100, 20000]", "first and the last port"),
            ("max_calls: 2", "max_cals: 2", "did you mean max_calls?"),
            ("wait_seconds: 2.0", "wait_seconds: 0", "channel.yaml:6"),
        ):
            self.assertIn(old, good)
            with self.assertRaises(InvalidFile) as caught:
                read_phone(good.replace(old, new), "channel.yaml")
            self.assertIn(what, str(caught.exception))
