"""What is written about a turn goes together: few transactions, and nothing lost or out of order."""

from unittest import mock

from sqlalchemy import event, select

from fond_echo.records.errors import StaleWorker
from fond_echo.records.pending import Pending
from fond_echo.store.records import ClipRecord
from tests.support.driving import QUESTION, Driving, note


class Together(Driving):
    async def transactions(self, turn_id):
        begun, statements = [], []
        engine = self.database.engine.sync_engine

        def count(connection):
            begun.append(connection)

        def keep(connection, cursor, statement, *rest):
            statements.append(statement)

        event.listen(engine, "begin", count)
        event.listen(engine, "before_cursor_execute", keep)
        try:
            await self.driver.work(turn_id)
        finally:
            event.remove(engine, "begin", count)
            event.remove(engine, "before_cursor_execute", keep)
        return len(begun), statements

    async def test_a_text_costs_three_transactions(self):
        await self.driver.work(await self.arrive("m0", text=QUESTION))
        # On a machine with more to do a stage may take longer than its record waits for company.
        with mock.patch("fond_echo.driver.side_messages.WRITTEN_AFTER", 60.0):
            count, statements = await self.transactions(await self.arrive("m1", text=QUESTION))
        self.assertLessEqual(count, 3)
        self.assertLessEqual(len(statements), 18)

    async def test_sound_is_there_before_what_names_it_and_costs_one_transaction_while_it_is_heard(
        self,
    ):
        seen = []
        send = self.world.channel.send

        async def look(outgoing):
            async with self.database.reading() as session:
                rows = await session.scalars(select(ClipRecord).order_by(ClipRecord.id))
                seen.extend((row.origin, row.turn_id) for row in rows)
            (row,) = await self.deliveries(turn_id)
            self.assertEqual(await self.world.clips.load(row.clip_id), outgoing.data)
            return await send(outgoing)

        self.world.channel.send = look
        turn_id = await self.arrive("m1", sound=note())
        with mock.patch("fond_echo.driver.side_messages.WRITTEN_AFTER", 60.0):
            count, _ = await self.transactions(turn_id)
        self.assertEqual(
            seen, [(each, turn_id) for each in ("fetched", "decoded", "spoken", "encoded")]
        )
        self.assertLessEqual(count - 2, 6, "two of them are what is read here")

    async def test_that_it_is_being_sent_is_written_before_it_is(self):
        seen = []
        send = self.world.channel.send

        async def look(outgoing):
            (row,) = await self.deliveries(turn_id)
            names = [each.name for each in await self.stages(turn_id)]
            seen.append((row.state, row.attempts, "answer" in names))
            return await send(outgoing)

        self.world.channel.send = look
        turn_id = await self.arrive("m1", text=QUESTION)
        await self.driver.work(turn_id)
        self.assertEqual(seen, [("sending", 1, True)])
        (row,) = await self.deliveries(turn_id)
        self.assertEqual((row.state, row.external_id), ("sent", "out-1"))

    async def test_stages_and_events_keep_their_order(self):
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        order = [each.name for each in await self.stages(turn_id)]
        self.assertEqual(order[0], "receive")
        self.assertEqual(order[1:4], ["fetch", "decode", "transcribe"])
        self.assertEqual(order[-1], "deliver")

    async def test_a_stale_worker_keeps_what_it_could_not_write_and_writes_nothing(self):
        turn_id = await self.arrive("m1", text=QUESTION)
        claim = await self.journal.claim(turn_id)
        claim.tell("turn.stage", stage="route", failed=False)
        await self.driver.work(turn_id)
        before = len(await self.stages(turn_id))
        with self.assertRaises(StaleWorker):
            await self.journal.flush(claim)
        self.assertEqual(len(claim.pending.events), 1)
        self.assertEqual(len(await self.stages(turn_id)), before)

    def test_what_comes_later_wins(self):
        first = Pending(on_turn={"state": "working", "route": "a"}, events=[("x", {})])
        both = first.followed_by(Pending(on_turn={"state": "answered"}, events=[("y", {})]))
        self.assertEqual(both.on_turn, {"state": "answered", "route": "a"})
        self.assertEqual([kind for kind, _ in both.events], ["x", "y"])
        self.assertFalse(Pending())
        self.assertTrue(both)
