"""Records of calls: written together and in order, kept while the database is away, and never
waiting for one another without end."""

import asyncio
import unittest.mock
from contextlib import asynccontextmanager

from sqlalchemy import select

from fond_echo.contract.base import new_id
from fond_echo.phone import call_writer
from fond_echo.phone.backend import CallEnd, CallStart
from fond_echo.phone.call_log import CallLog
from fond_echo.phone.call_writer import CallWriter
from fond_echo.store.calls import Call
from fond_echo.store.database import NoConnectionFree
from tests.support.driving import Driving


class Writing(Driving):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.writer = CallWriter(self.database)
        self.addAsyncCleanup(self.writer.stop)
        needs = unittest.mock.Mock(database=self.database, blobs=None)
        self.log = CallLog(needs, "test-channel", self.writer)

    def start(self):
        return CallStart(new_id(), "test-channel", "isla", f"call-{new_id()}", False, None, "2001")

    async def calls(self):
        async with self.database.reading() as session:
            return {each.id: each for each in (await session.execute(select(Call))).scalars()}

    async def live(self, start):
        await asyncio.gather(
            self.log.rang(start, "2001"),
            self.log.write(start.record, "answered", 0.0, {}, state="answered"),
            self.log.write(start.record, "barge-in", 1.0, {}),
            self.log.write(start.record, "ended", 2.0, {"cause": "hung-up"}, state="ended"),
        )

    async def test_a_hundred_calls_at_once_take_few_transactions_and_one_connection(self):
        opened, writing = [], self.database.writing

        @asynccontextmanager
        async def counted():
            opened.append(1)
            async with writing() as session:
                yield session

        starts = [self.start() for _ in range(100)]
        with unittest.mock.patch.object(self.database, "writing", counted):
            async with asyncio.timeout(60):
                await asyncio.gather(*map(self.live, starts))
        found = await self.calls()
        kinds = {tuple(e["kind"] for e in found[start.record].timeline) for start in starts}
        self.assertEqual(kinds, {("ringing", "answered", "barge-in", "ended")})
        self.assertEqual({found[start.record].state for start in starts}, {"ended"})
        self.assertLess(len(opened), 110)

    async def test_while_the_database_is_away_it_is_kept_and_then_written_in_order(self):
        away, writing, start = [True], self.database.writing, self.start()

        @asynccontextmanager
        async def failing():
            if away[0]:
                raise NoConnectionFree("no connection is free")
            async with writing() as session:
                yield session

        with (
            unittest.mock.patch.object(self.database, "writing", failing),
            unittest.mock.patch.object(call_writer, "FIRST_PAUSE", 0.01),
        ):
            living = asyncio.create_task(self.live(start))
            await asyncio.sleep(0.2)
            self.assertEqual((living.done(), self.writer.waiting), (False, 4))
            # A turn of this call waits until what came before it is there.
            entered = []

            async def turn():
                async with self.log.writing(start.record):
                    entered.append(len((await self.calls())[start.record].timeline))

            waits = asyncio.create_task(turn())
            await asyncio.sleep(0.05)
            away[0] = False
            async with asyncio.timeout(30):
                await asyncio.gather(living, waits)
        self.assertEqual(entered, [4])
        self.assertEqual(self.writer.waiting, 0)

    async def test_what_is_refused_is_no_matter_of_the_others(self):
        start = self.start()
        same = self.log.rang(start, "2001"), self.log.rang(start, "2001")
        with unittest.mock.patch.object(call_writer, "log") as log:
            await asyncio.gather(*same, self.live(other := self.start()))
        log.warning.assert_called_once()
        self.assertEqual(set(await self.calls()), {start.record, other.record})

    async def test_a_fault_of_ours_ends_no_writing(self):
        async def broken(session):
            raise ValueError("ours")

        with unittest.mock.patch.object(call_writer, "log"):
            self.assertFalse(await self.writer.write("x", "odd", broken))
        await self.live(start := self.start())
        self.assertEqual((await self.calls())[start.record].state, "ended")

    async def test_an_end_is_written_behind_what_came_before(self):
        start = self.start()
        rang = asyncio.create_task(self.log.rang(start, "2001"))
        await asyncio.sleep(0)
        end = CallEnd({"cause": "hung-up"}, None, 3.0, {}, {})
        with unittest.mock.patch("fond_echo.store.calls.bind_recording", return_value=None):
            await self.log.ended(start.record, end)
        await rang
        kinds = [each["kind"] for each in (await self.calls())[start.record].timeline]
        self.assertEqual(kinds, ["ringing", "ended"])
