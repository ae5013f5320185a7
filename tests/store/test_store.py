import asyncio
import re
import unittest
from datetime import UTC, datetime, timedelta

from cryptography.fernet import Fernet
from sqlalchemy import func, select, text, update

from fond_echo.store import queue_schema
from fond_echo.store.access_records import Key
from fond_echo.store.blobs import CHUNK, PostgresBlobs
from fond_echo.store.clips import CACHED_BYTES, ClipStore
from fond_echo.store.database import Database
from fond_echo.store.errors import (
    MissingBlob,
    MissingClip,
    NewerDatabase,
    OlderDatabase,
    SecretLocked,
)
from fond_echo.store.event_records import TransactionId
from fond_echo.store.events import Cursor, emit, events_after, present
from fond_echo.store.keys import add_key, bearer_of, includes, new_key, sign_in, sign_out, signed_in
from fond_echo.store.migrate import migrate
from fond_echo.store.queue import enqueue_forgotten
from fond_echo.store.records import Blob, BlobChunk, Inbound, Turn
from fond_echo.store.schema import METADATA
from fond_echo.store.secrets import SecretBox
from tests.support.database import DatabaseTest, empty_database
from tests.support.world import TurnsTest


class Migrations(unittest.IsolatedAsyncioTestCase):
    async def test_several_processes_may_start_at_once(self):
        url = empty_database()
        databases = [Database(url) for _ in range(3)]
        await asyncio.gather(*(migrate(each) for each in databases))
        async with databases[0].reading() as session:
            tables = await session.execute(
                text("SELECT tablename FROM pg_tables WHERE schemaname = 'public'")
            )
            names = set(tables.scalars())
        self.assertLessEqual({*METADATA.tables, "procrastinate_jobs"}, names)
        for each in databases:
            await each.close()

    async def test_the_migrations_make_what_the_records_say(self):
        from alembic.autogenerate import compare_metadata
        from alembic.runtime.migration import MigrationContext

        database = Database(empty_database())
        await migrate(database)

        def differences(connection):
            connection.dialect.ischema_names["xid8"] = TransactionId
            context = MigrationContext.configure(connection, opts={"compare_type": True})
            found = compare_metadata(context, METADATA)
            return [
                each for each in found if not re.search("procrastinate|queue_schema", str(each))
            ]

        async with database.engine.connect() as connection:
            self.assertEqual(await connection.run_sync(differences), [])
        await database.close()

    async def test_a_newer_database_is_refused(self):
        database = Database(empty_database())
        await migrate(database)
        for newer in ("9999", "records999"):
            async with database.writing() as session:
                await session.execute(text(f"UPDATE alembic_version SET version_num = '{newer}'"))
            with self.assertRaisesRegex(NewerDatabase, newer):
                await migrate(database)
        await database.close()

    async def test_a_database_from_before_the_first_release_is_refused_with_the_way_out(self):
        database = Database(empty_database())
        await migrate(database)
        for older in ("0001", "records7"):
            async with database.writing() as session:
                await session.execute(text(f"UPDATE alembic_version SET version_num = '{older}'"))
            with self.assertRaisesRegex(OlderDatabase, "before the first release") as found:
                await migrate(database)
            self.assertIn("--fresh", found.exception.remedy)
        await database.close()

    async def test_the_queue_s_tables_follow_a_later_release_of_its_library(self):
        database = Database(empty_database())
        await migrate(database)
        self.assertEqual(max(queue_schema.changes()), queue_schema.FIRST, "vendor it anew")
        later = {
            **queue_schema.changes(),
            "03.05.00_01": "CREATE TABLE later (id int); INSERT INTO later VALUES (100 % 7);",
            "03.05.00_50": "ALTER TABLE later ADD COLUMN more text;",
        }
        async with database.engine.begin() as connection:
            made = await connection.run_sync(lambda each: queue_schema.upgrade(each, later))
            self.assertEqual(made, ["03.05.00_01", "03.05.00_50"])
            again = await connection.run_sync(lambda each: queue_schema.upgrade(each, later))
            self.assertEqual(again, [])
            found = (await connection.execute(text("SELECT id, more FROM later"))).one()
            self.assertEqual(tuple(found), (2, None))
        # The library that was there before does not touch them.
        with self.assertRaisesRegex(queue_schema.NewerQueue, "03.05.00_50"):
            await migrate(database)
        await database.close()


class Reading(DatabaseTest):
    async def test_what_is_changed_while_reading_is_not_kept(self):
        digest = await self.kept(b"same")
        async with self.database.reading() as session:
            (await session.get(Blob, digest)).uses = 7
            await session.scalar(select(func.count()).select_from(Blob))
        async with self.database.reading() as session:
            self.assertEqual((await session.get(Blob, digest)).uses, 1)

    async def test_no_transaction_is_open_between_two_statements(self):
        idle = text(
            "SELECT count(*) FROM pg_stat_activity"
            " WHERE state LIKE 'idle in%' AND datname = current_database()"
        )
        async with self.database.reading() as session, self.database.reading() as other:
            await session.scalar(select(func.count()).select_from(Blob))
            self.assertEqual(await other.scalar(idle), 0)

    async def kept(self, data):
        async with self.database.writing() as session:
            return await PostgresBlobs().put(session, data)


class Blobs(DatabaseTest):
    async def test_bytes_come_back_whatever_their_size(self):
        blobs = PostgresBlobs()
        for size in (0, 1, CHUNK, CHUNK + 1, 3 * CHUNK + 7):
            data = bytes(k % 251 for k in range(size))
            async with self.database.writing() as session:
                digest = await blobs.put(session, data)
            async with self.database.reading() as session:
                self.assertEqual(await blobs.get(session, digest), data)

    async def test_equal_bytes_are_kept_once_and_go_with_their_last_use(self):
        blobs = PostgresBlobs()
        for _ in range(2):
            async with self.database.writing() as session:
                digest = await blobs.put(session, b"same")
        async with self.database.writing() as session:
            self.assertEqual((await session.get(Blob, digest)).uses, 2)
            await blobs.release(session, [digest])
        async with self.database.writing() as session:
            self.assertEqual(await blobs.get(session, digest), b"same")
            self.assertEqual(await blobs.put(session, b"same"), digest)
            await blobs.release(session, [digest, digest])
        async with self.database.reading() as session:
            count = await session.scalar(select(func.count()).select_from(BlobChunk))
            self.assertEqual(count, 0)
            with self.assertRaises(MissingBlob):
                await blobs.get(session, digest)


class Clips(TurnsTest):
    async def test_only_recent_sound_stays_in_memory(self):
        clips, turn = ClipStore(self.database), await self.arrive("m1", "hello")
        piece = bytes(3 * 2**20)
        kept = [
            await clips.keep(turn, piece + bytes([n]), "audio/flac", "spoken") for n in range(6)
        ]
        held = clips._recent
        self.assertEqual(list(held), [each.id for each in kept[-3:]])
        self.assertLessEqual(sum(map(len, held.values())), CACHED_BYTES)
        self.assertEqual((await clips.load(kept[0].id))[-1], 0)
        self.assertIn(kept[0].id, held)
        self.assertEqual(sum(map(len, held.values())), held.currsize)

    async def test_clips(self):
        first, second = ClipStore(self.database), ClipStore(self.database)
        turn = await self.arrive("m1", "hello")
        ref = await first.keep(turn, b"sound", "audio/ogg", "fetched", seconds=1.5, waveform=[0.5])
        self.assertEqual((ref.size, ref.seconds, ref.waveform), (5, 1.5, [0.5]))
        self.assertEqual(await second.load(ref.id), b"sound")
        with self.assertRaises(MissingClip):
            await second.load("nothing")


class Secrets(DatabaseTest):
    async def test_the_first_key_encrypts_and_all_decrypt(self):
        old, new = Fernet.generate_key().decode(), Fernet.generate_key().decode()
        async with self.database.writing() as session:
            await SecretBox([old]).put(session, "token", "kept close", ["b.example", "a.example"])
        async with self.database.reading() as session:
            found = await SecretBox([new, old]).read(session)
            self.assertEqual(found["token"], ("kept close", frozenset({"a.example", "b.example"})))
            with self.assertRaisesRegex(SecretLocked, "token"):
                await SecretBox([new]).read(session)
            stored = await session.scalar(text("SELECT token FROM secrets"))
            self.assertNotIn(b"kept", bytes(stored))

    async def test_replacing(self):
        box = SecretBox([Fernet.generate_key().decode()])
        async with self.database.writing() as session:
            await box.put(session, "token", "v1", [])
            await box.put(session, "token", "v2", ["x.example"])
            self.assertEqual((await box.read(session, ["token", "none"]))["token"][0], "v2")


class Keys(DatabaseTest):
    async def test_keys_and_sign_ins(self):
        key = new_key()
        async with self.database.writing() as session:
            await add_key(session, "desk", ["read"], key)
        async with self.database.writing() as session:
            bearer = await bearer_of(session, key)
            self.assertEqual((bearer.name, bearer.scopes), ("desk", ("read",)))
            self.assertIsNone(await bearer_of(session, key + "x"))
            cookie, csrf_token = await sign_in(session, bearer)
        async with self.database.writing() as session:
            seen, token = await signed_in(session, cookie)
            self.assertEqual(
                (seen.key_id, seen.scopes, token), (bearer.key_id, bearer.scopes, csrf_token)
            )
            self.assertTrue(seen.cookie_hash)
            self.assertNotEqual((await session.scalars(select(Key.hash))).one(), key)
            await sign_out(session, cookie)
        async with self.database.writing() as session:
            self.assertIsNone(await signed_in(session, cookie))

    async def test_a_revoked_key_is_worth_nothing(self):
        key = new_key()
        async with self.database.writing() as session:
            await add_key(session, "desk", ["admin"], key)
            bearer = await bearer_of(session, key)
            cookie, _ = await sign_in(session, bearer)
            await session.execute(text("UPDATE keys SET revoked_at = now()"))
        async with self.database.writing() as session:
            self.assertIsNone(await bearer_of(session, key))
            self.assertIsNone(await signed_in(session, cookie))

    def test_each_scope_includes_those_before_it(self):
        self.assertTrue(includes(["admin"], "read"))
        self.assertTrue(includes(["operate"], "operate"))
        self.assertFalse(includes(["read"], "operate"))
        self.assertFalse(includes(["nonsense"], "read"))


class Events(DatabaseTest):
    async def write(self, name):
        async with self.database.writing() as session:
            await emit(session, "test", name)

    async def read(self, cursor):
        async with self.database.reading() as session:
            return await events_after(session, cursor)

    async def test_nothing_is_passed_over_when_commits_overtake_each_other(self):
        async with self.database.reading() as session:
            start = await present(session)
        async with self.database.writing() as slow:
            await emit(slow, "test", "begun first")
            await self.write("committed first")
            early = await self.read(start)
        late = await self.read(early[-1].cursor if early else start)
        self.assertEqual([event.subject for event in early], [])
        self.assertEqual([event.subject for event in late], ["begun first", "committed first"])

    async def test_reading_on_from_a_place(self):
        async with self.database.reading() as session:
            start = await present(session)
        for name in ("a", "b", "c"):
            await self.write(name)
        first = (await self.read(start))[0]
        rest = await self.read(Cursor.parse(str(first.cursor)))
        self.assertEqual([event.subject for event in rest], ["b", "c"])


class TakingIn(TurnsTest):
    async def test_a_message_is_stored_once_however_often_it_comes(self):
        await self.arrive("m1", "hello")
        found = await asyncio.gather(
            *(self.arrive("m2", "again") for _ in range(5)), return_exceptions=True
        )
        self.assertEqual(sum(bool(each) for each in found if isinstance(each, str)), 1)
        async with self.database.reading() as session:
            self.assertEqual(await session.scalar(select(func.count()).select_from(Inbound)), 2)
            waiting = (await session.scalars(select(Turn).where(Turn.state == "waiting"))).one()
        self.assertEqual(waiting.number, 2, "nothing is to be heard of it before its time")
        self.assertEqual(len(await self.waiting_jobs()), 1)

    async def test_turns_are_numbered_in_their_conversation_without_gaps(self):
        await asyncio.gather(
            *(self.arrive(f"m{k}", "x", conversation=f"room-{k % 2}") for k in range(10))
        )
        await self.arrive("m3", "known already", conversation="room-1")
        async with self.database.reading() as session:
            rows = await session.execute(
                select(Turn.conversation_id, Turn.number).order_by(Turn.number)
            )
            numbers = {}
            for conversation, number in rows:
                numbers.setdefault(conversation, []).append(number)
        self.assertEqual(list(numbers.values()), [[1, 2, 3, 4, 5]] * 2)

    async def test_a_turn_that_lost_its_job_gets_another(self):
        await self.arrive("m1", sound=b"x")
        await self.arrive("m2", sound=b"y")
        no_jobs = text("DELETE FROM procrastinate_jobs")
        async with self.database.writing() as session:
            self.assertEqual(await enqueue_forgotten(self.queue, session), 0)
            await session.execute(no_jobs)
            self.assertEqual(await enqueue_forgotten(self.queue, session), 0, "too young")
            long_ago = datetime.now(UTC) - timedelta(minutes=1)
            await session.execute(update(Turn).values(received_at=long_ago))
            self.assertEqual(await enqueue_forgotten(self.queue, session), 2)
            self.assertEqual(await enqueue_forgotten(self.queue, session), 0)
            await session.execute(update(Turn).values(state="waiting"))
            await session.execute(no_jobs)
            only_the_first = await enqueue_forgotten(self.queue, session)
            self.assertEqual(only_the_first, 1, "the second is waked by the first")

    async def test_a_job_goes_with_the_transaction_that_needs_it(self):
        from fond_echo.contract.channel import Inbound as Message
        from fond_echo.store.inbound import take_in

        with self.assertRaises(RuntimeError):
            async with self.database.writing() as session:
                message = Message(id="m9", conversation="r", contact="c", text="x")
                await take_in(session, "test-channel", self.settings, message, {})
                raise RuntimeError("undone")
        self.assertEqual(await self.waiting_jobs(), [])
