"""What is said in a conference room because somebody asked for it in a chat."""

from datetime import UTC, datetime
from types import SimpleNamespace

from sqlalchemy import select, update

from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.reading import read_assistant
from fond_echo.phone.announced import tell_who_asked
from fond_echo.phone.backend import CallEnd
from fond_echo.phone.call_log import CallLog
from fond_echo.phone.call_writer import CallWriter
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.calls import Call
from fond_echo.store.event_records import Event
from fond_echo.store.records import Channel
from fond_echo.turns.ports import Abilities
from tests.support.driving import Driving

DESK = """\
assistant: test-desk
voice: tern
routes:
  - route: tell-all
    examples: [Tell everyone that the boat is late.]
    reply:
      then: announce
      over: exchange
      announced: "{{ contact.name }} says that the boat is late."
      text: I am saying it in your conference.
      no_conference: I do not see you in a conference.
fallback:
  reply: {text: I know about boats.}
"""
PHONE = """\
phone: exchange
listen: {host: 127.0.0.1, port: 5999, media: [41000, 41009]}
numbers: ["2001"]
peers: [127.0.0.1]
registrars:
  - registrar: carrier
    uri: sip:127.0.0.1:5998
    aor: sip:2001@127.0.0.1
    user: desk
    password: {secret: carrier-pass}
outbound: {via: carrier, country: "44", allowed: [quay]}
"""


class Announcing(Driving):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.publish(DESK)
        async with self.database.writing() as session:
            session.add(
                Channel(
                    name="exchange", kind="phone", assistant="test-desk", connector=PHONE, values={}
                )
            )  # fmt: skip

    async def ask(self, number, **about):
        turn = await self.arrive(number, "Tell everyone that the boat is late.", **about)
        if turn:
            await self.driver.work(turn)
        async with self.database.reading() as session:
            calls = (await session.scalars(select(Call))).all()
            refused = (
                await session.scalars(select(Event).where(Event.type == "announcement.refused"))
            ).all()
        return self.sent[-1].text, calls, [each.data["why"] for each in refused]

    async def test_into_the_conference_of_who_asks(self):
        text, (call,), refused = await self.ask("m1", conference="quay")
        self.assertEqual(text, "I am saying it in your conference.")
        self.assertEqual((call.channel, call.number, call.state), ("exchange", "quay", "requested"))
        self.assertEqual(call.order["opening"]["text"], "Isla says that the boat is late.")
        self.assertEqual(refused, [])
        # The same message once more is the same turn: nothing is said twice.
        _, calls, _ = await self.ask("m1", conference="quay")
        self.assertEqual(len(calls), 1)

    async def test_where_the_network_does_not_know_it_the_assistant_says_so(self):
        text, calls, _ = await self.ask("m1")
        self.assertEqual((text, calls), ("I do not see you in a conference.", []))

    async def test_where_the_line_may_not_call_it_an_event_says_why(self):
        _, calls, (why,) = await self.ask("m1", conference="pier")
        self.assertEqual(calls, [])
        self.assertIn("pier may not be called", why)
        async with self.database.writing() as session:
            await session.execute(
                update(Channel).where(Channel.name == "exchange").values(kind="http")
            )
        _, calls, reasons = await self.ask("m2", conference="quay")
        self.assertEqual(calls, [])
        self.assertIn("there is no phone channel 'exchange'", reasons)

    async def take_back(self):
        turn = await self.arrive("m9", "undo")
        await self.driver.work(turn)
        async with self.database.reading() as session:
            (call,) = (await session.scalars(select(Call))).all()
        return self.sent[-1].text, call.state, call.cause

    async def test_it_can_be_taken_back_before_it_is_said(self):
        await self.publish(DESK.replace("over: exchange", "over: exchange\n      after: 30"))
        _, (call,), _ = await self.ask("m1", conference="quay")
        waits = (call.due_at - call.requested_at).total_seconds()
        self.assertAlmostEqual(waits, 30, delta=2)
        self.assertEqual(await self.take_back(),
                         ("All right, I have taken that back.", "ended", "taken-back"))  # fmt: skip

    async def test_and_not_when_it_was_said(self):
        await self.ask("m1", conference="quay")
        async with self.database.writing() as session:
            await session.execute(update(Call).values(state="answered"))
        text, state, _ = await self.take_back()
        self.assertEqual((text, state),
                         ("It has been said already: I cannot take it back.", "answered"))  # fmt: skip

    async def over(self, **values):
        async with self.database.writing() as session:
            await session.execute(update(Call).values(state="ended", **values))
            call = (await session.scalars(select(Call.id))).one()
        await tell_who_asked(self.database, call)
        await tell_who_asked(self.database, call)
        for turn_id in dict.fromkeys(await self.waiting_jobs()):
            await self.driver.work(turn_id)
        return [(each.kind, each.text, each.id) for each in self.sent[1:]]

    async def test_whoever_asked_is_told_when_it_was_said_and_the_request_goes(self):
        self.world.channel.abilities = Abilities(frozenset(("text", "delete")))
        await self.ask("m1", conference="quay")
        at = datetime(2026, 11, 28, 14, 5, tzinfo=UTC)
        self.assertEqual(
            await self.over(answered_at=at, cause="hung-up"),
            [("text", "It was said in quay at 14:05.", ""), ("delete", "", "m1")],
        )

    async def test_and_that_nobody_was_there(self):
        await self.ask("m1", conference="quay")
        self.assertEqual(
            await self.over(cause="no-answer"),
            [("text", "It could not be said in quay: nobody answered there.", "")],
        )

    async def test_a_call_that_could_not_be_placed_is_told_by_whoever_writes_its_end(self):
        await self.ask("m1", conference="quay")
        async with self.database.reading() as session:
            call = (await session.scalars(select(Call.id))).one()
        calls = CallLog(
            SimpleNamespace(database=self.database), "exchange", CallWriter(self.database)
        )
        await calls.write(
            call, "failed", None, {"why": "busy"}, state="ended", cause="busy",
            ended_at=datetime.now(UTC),
        )  # fmt: skip
        for turn_id in dict.fromkeys(await self.waiting_jobs()):
            await self.driver.work(turn_id)
        self.assertIn("It could not be said in quay", self.sent[-1].text)

    async def test_an_end_is_written_once_though_its_commit_was_in_doubt(self):
        await self.ask("m1", conference="quay")
        async with self.database.reading() as session:
            call = (await session.scalars(select(Call.id))).one()
        needs = SimpleNamespace(database=self.database, blobs=PostgresBlobs())
        calls = CallLog(needs, "exchange", CallWriter(self.database))
        end = CallEnd({"cause": "hung-up"}, datetime.now(UTC), 3.0)
        for _ in range(2):
            await calls.ended(call, end)
        async with self.database.reading() as session:
            kinds = (await session.scalars(select(Event.type))).all()
        self.assertEqual(kinds.count("call.ended"), 1)

    def test_what_such_a_reply_needs(self):
        channels = ("then: announce", "over: exchange", 'announced: "{{')
        for missing in channels:
            text = "\n".join(each for each in DESK.splitlines() if missing not in each)
            with self.subTest(missing), self.assertRaisesRegex(InvalidFile, "announce needs over"):
                read_assistant({"assistant.yaml": text})
