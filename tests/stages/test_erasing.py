"""What is erased is erased everywhere, whatever goes on meanwhile, and the record says that it was."""

from datetime import UTC, datetime, timedelta

from sqlalchemy import func, select, text, update

from fond_echo.contract.channel import Retention
from fond_echo.records.claim import Failure
from fond_echo.store.access_records import SignIn
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.erasing import AT_ONCE, erase_contact, erase_sound, finish_erasing
from fond_echo.store.errors import TurnErased
from fond_echo.store.event_records import Event
from fond_echo.store.records import (
    Blob,
    Channel,
    ClipRecord,
    Contact,
    Conversation,
    Inbound,
    Run,
    Stage,
    Turn,
    Usage,
)
from fond_echo.store.retention import retain
from tests.driver.test_queued import QUESTION, note
from tests.stages.test_channel_settings import Settled
from tests.support.dumping import dumped
from tests.support.world import unhurried

BLOBS = PostgresBlobs()


class Erasing(Settled):
    async def test_a_turn_whose_sound_was_erased_gets_none_again_when_it_is_tried_again(self):
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        async with self.database.writing() as session:
            await erase_sound(session, BLOBS, [turn_id])
            again = {"state": "received", "run_id": None, "finished_at": None}
            await session.execute(update(Turn).where(Turn.id == turn_id).values(**again))
        await self.driver.work(turn_id)
        self.assertEqual(await self.clips(), (0, 0))
        self.assertEqual((await self.turn(turn_id)).error["code"], "turn-erased")

    async def contact(self, external_id="isla"):
        async with self.database.reading() as session:
            wanted = select(Contact.id).where(Contact.external_id == external_id)
            return (await session.scalars(wanted)).one()

    async def erase(self, external_id="isla"):
        return await erase_contact(self.database, BLOBS, await self.contact(external_id))

    async def clips(self):
        async with self.database.reading() as session:
            clips = (await session.scalars(select(ClipRecord.id))).all()
            blobs = (await session.scalars(select(Blob.digest))).all()
        return len(clips), len(blobs)

    async def test_a_contact_is_erased_everywhere_and_others_stay(self):
        await self.driver.work(await self.arrive("m1-of-isla", sound=note()))
        await self.say("m2-of-isla", "My secret is a seal.", conversation="room-of-isla")
        await self.say("m3", contact="piet", conversation="room-2", name="Piet")
        before = await dumped(self.database)
        gone = ("seal", "Isla", "isla", "Pell", "m1-of", "m2-of", "out-1", "fLaC", "OggS")
        for each in gone:
            self.assertIn(each, before)
        self.assertEqual(await self.erase(), 2)
        after = await dumped(self.database)
        for each in gone:
            self.assertEqual([row for row in after.splitlines() if each in row], [], each)
        self.assertEqual(await self.clips(), (0, 0))
        self.assertIn("Piet", after)
        async with self.database.reading() as session:
            turns = (await session.scalars(select(Turn).where(Turn.text == ""))).all()
            self.assertEqual(len(turns), 2)
            self.assertTrue(all(each.erased_at and each.sound_erased_at for each in turns))
            stages = (
                await session.scalars(select(Stage).where(Stage.erased_at.is_not(None)))
            ).all()
        self.assertTrue(stages)
        self.assertTrue(all(each.seconds >= 0 and each.output == {} for each in stages))

    async def test_who_was_erased_comes_back_as_somebody_new(self):
        await self.say("m1")
        old = await self.contact()
        await self.erase()
        await self.say("m2")
        self.assertNotEqual(await self.contact(), old)
        self.assertIn("Four pounds", self.sent[-1].text)

    async def test_turns_under_way_are_cancelled_and_write_nothing_more(self):
        """Erased while the sound is fetched, with a turn behind it that waits."""
        behind = []

        async def erased_now():
            behind.append(await self.arrive("m2", "How much is a ticket?"))
            await self.driver.work(behind[0])
            self.assertEqual((await self.turn(behind[0])).state, "waiting")
            await self.erase()

        fetch = self.world.channel.fetch

        async def fetch_slowly(*arguments):
            await erased_now()
            return await fetch(*arguments)

        self.world.channel.fetch = fetch_slowly
        first = await self.arrive("m1", sound=note())
        await self.driver.work(first)
        for turn_id in (first, *behind):
            await self.driver.work(turn_id)
            self.assertEqual((await self.turn(turn_id)).state, "cancelled")
        self.assertEqual(self.sent, [])
        self.assertEqual(await self.clips(), (0, 0))
        self.world.channel.fetch = fetch
        await self.say("m3")
        self.assertIn("Four pounds", self.sent[-1].text, "the same person is answered again")
        async with self.database.reading() as session:
            cancelled = select(Event.subject).where(Event.type == "turn.cancelled")
            self.assertEqual(set(await session.scalars(cancelled)), {first, *behind})

    async def test_sound_of_an_erased_turn_is_not_kept(self):
        turn_id = await self.say("m1")
        await self.erase()
        with self.assertRaises(TurnErased):
            await self.world.clips.keep(turn_id, b"sound", "audio/flac", "spoken")

    async def test_erasing_that_was_interrupted_is_finished(self):
        for number in range(3):
            await self.say(f"m{number}", f"Secret number {number}")
        async with self.database.writing() as session:
            await session.execute(update(Contact).values(erased_at=func.now()))
        self.assertEqual(await finish_erasing(self.database, BLOBS), 3)
        self.assertEqual(await finish_erasing(self.database, BLOBS), 0)
        self.assertNotIn("Secret", await dumped(self.database))

    async def test_a_turn_that_cannot_be_read_ends_and_holds_nobody_up(self):
        broken = await self.arrive("m1", "How much is a ticket?")
        behind = await self.arrive("m2", "How much is a ticket?")
        async with self.database.writing() as session:
            await session.execute(
                update(Inbound).where(Inbound.turn_id == broken).values(message={})
            )
        await self.driver.work(behind)
        with self.assertRaises(ValueError) as raised:
            await self.driver.work(broken)
        await self.waiting_jobs()
        await self.journal.give_up(broken, Failure.of("receive", raised.exception))
        self.assertEqual(await self.waiting_jobs(), [behind])
        await self.driver.work(behind)
        states = [(await self.turn(each)).state for each in (broken, behind)]
        self.assertEqual(states, ["failed", "answered"])
        self.assertEqual((await self.turn(broken)).error["stage"], "receive")

    async def test_old_words_do_not_live_on_in_what_came_after_them(self):
        """The conversation goes on: neither its state nor a later turn's run keeps them."""
        await self.driver.work(await self.arrive("m1", text=QUESTION))
        async with self.database.writing() as session:
            old = datetime.now(UTC) - timedelta(days=31)
            await session.execute(update(Turn).values(received_at=old))
        await self.keep(text_days=30)
        await self.driver.work(await self.arrive("m2", text="How much is a ticket?"))
        kept = (select(Conversation.state), select(Run.state_before).order_by(Run.started_at))
        async with self.database.reading() as session:
            before = str([(await session.scalars(each)).all() for each in kept])
        self.assertIn(QUESTION, before)
        await retain(self.database, BLOBS, datetime.now(UTC), event_days=30)
        async with self.database.reading() as session:
            after = str([(await session.scalars(each)).all() for each in kept])
        self.assertNotIn(QUESTION, after)

    async def test_lines_keep_sound_and_words_as_long_as_they_say(self):
        await self.driver.work(await self.arrive("m1-of-isla", sound=note()))
        await self.keep(sound_days=10, text_days=30)
        for days, words, clips in ((5, True, True), (11, True, False), (31, False, False)):
            later = datetime.now(UTC) + timedelta(days=days)
            await retain(self.database, BLOBS, later, event_days=30)
            dump = await dumped(self.database)
            kept, _ = await self.clips()
            self.assertEqual((QUESTION in dump, kept > 0), (words, clips), days)
        for each in ("Isla", "isla", "m1-of", "room-1"):
            self.assertEqual([row for row in dump.splitlines() if each in row], [], each)

    async def keep(self, **days):
        async with self.database.writing() as session:
            settings = unhurried(retention=Retention(**days))
            await session.execute(update(Channel).values(settings=settings.model_dump()))

    async def test_half_a_day_is_twelve_hours(self):
        await self.driver.work(await self.arrive("m1"))
        await self.keep(text_days=0.5)
        for hours, gone in ((11, False), (13, True)):
            later = datetime.now(UTC) + timedelta(hours=hours)
            await retain(self.database, BLOBS, later, event_days=30)
            async with self.database.reading() as session:
                (turn,) = (await session.scalars(select(Turn))).all()
            self.assertEqual(turn.erased_at is not None, gone, hours)

    async def test_many_turns_go_in_small_batches(self):
        count = AT_ONCE + 3
        for number in range(count):
            await self.arrive(f"m{number}", f"Secret number {number}")
        async with self.database.writing() as session:
            await session.execute(update(Turn).values(state="answered"))
        await self.keep(text_days=1)
        later = datetime.now(UTC) + timedelta(days=2)
        self.assertGreaterEqual(await retain(self.database, BLOBS, later, event_days=30), count)
        self.assertNotIn("Secret", await dumped(self.database))

    async def test_allowed_contacts_stay_known_after_their_words_are_gone(self):
        await self.say("m1")
        async with self.database.writing() as session:
            await session.execute(update(Contact).values(standing="allowed", memory={"a": 1}))
        await self.keep(text_days=1)
        await retain(self.database, BLOBS, datetime.now(UTC) + timedelta(days=2), event_days=30)
        async with self.database.reading() as session:
            contact = (await session.scalars(select(Contact))).one()
        self.assertEqual((contact.external_id, contact.memory), ("isla", {}))

    async def test_events_sign_ins_and_usage_are_deleted_in_time(self):
        await self.say("m1")
        async with self.database.writing() as session:
            contact = await session.scalar(select(Contact.id))
            await session.execute(
                text("INSERT INTO keys (id, name, hash, scopes) VALUES ('k', 'k', 'h', '[]')")
            )
            for number, hours in enumerate((-1, 1)):
                at = datetime.now(UTC) + timedelta(hours=hours)
                session.add(SignIn(hash=f"h{number}", key_id="k", csrf_token="t", expires_at=at))
            today = datetime.now(UTC).date()
            for days in (1, 90):
                session.add(Usage(contact_id=contact, day=today - timedelta(days=days)))
            await session.execute(
                update(Event)
                .where(Event.type == "turn.received")
                .values(at=datetime.now(UTC) - timedelta(days=8))
            )
        await retain(self.database, BLOBS, datetime.now(UTC), event_days=7)
        async with self.database.reading() as session:
            types = set(await session.scalars(select(Event.type)))
            sign_ins = (await session.scalars(select(SignIn.hash))).all()
            usage = (await session.scalars(select(Usage.day))).all()
        self.assertNotIn("turn.received", types)
        self.assertIn("turn.answered", types)
        self.assertEqual(sign_ins, ["h1"])
        self.assertEqual(set(usage), {today, today - timedelta(days=1)})
