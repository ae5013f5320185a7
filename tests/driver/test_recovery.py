"""Workers that die, and a database that goes away, in the middle of turns."""

import asyncio
import itertools
import unittest.mock

from sqlalchemy.exc import OperationalError

from fond_echo.connectors.errors import Unreachable
from fond_echo.records.errors import StaleWorker
from fond_echo.turns.closing import Closing
from fond_echo.turns.delivery import PlannedDelivery
from fond_echo.turns.state import ConversationState
from tests.support.driving import QUESTION, Driving, Killed, note
from tests.support.world import ASSISTANT, logic_that_fails


class Recovery(Driving):
    """A worker that dies at any stage boundary: another carries the turn on, and does it once."""

    async def test_killed_after_each_stage(self):
        stages = ("fetch", "decode", "transcribe", "route", "answer", "speak", "encode")
        for number, (stage, written) in enumerate(itertools.product(stages, (True, False))):
            with self.subTest(after=stage, written=written):
                self.sent.clear()
                self.world.logic.requested.clear()
                turn_id = await self.arrive(f"m{number}", sound=note())
                await self.die_after(stage, turn_id, written=written)
                self.assertEqual(self.sent, [])
                await self.driver.work(turn_id)
                self.assertEqual((await self.turn(turn_id)).state, "answered")
                self.assertEqual([each.kind for each in self.sent], ["voice"])
                # What was not written yet may have been under way all the same.
                # Speaking and encoding may take less time than a record waits for company.
                most = 2 if stage in ("answer", "speak", "encode") and not written else 1
                self.assertIn(len(self.world.logic.requested), range(1, most + 1))
                names = [each.name for each in await self.stages(turn_id)]
                self.assertEqual(len(names), len(set(names)), "no stage was done twice")

    async def die_after(self, stage, turn_id, *, written=True):
        record, claims = self.journal.record, []

        def dying(claim, name, *args, **fields):
            record(claim, name, *args, **fields)
            if name == stage:
                claims.append(claim)
                raise Killed

        self.journal.record = dying
        with self.assertRaises(Killed):
            await self.driver.work(turn_id)
        self.journal.record = record
        if written:
            await self.journal.flush(claims[0])

    async def test_a_database_that_goes_away_in_a_stage_fails_no_turn(self):
        turn_id = await self.arrive("m1", sound=note())
        gone = OperationalError("SELECT 1", {}, Exception("the database is shutting down"))
        with (
            unittest.mock.patch("fond_echo.driver.runner.fetch", side_effect=gone),
            self.assertRaises(OperationalError),
        ):
            await self.driver.work(turn_id)
        await self.driver.work(turn_id)
        self.assertEqual((await self.turn(turn_id)).state, "answered")
        self.assertEqual([each.kind for each in self.sent], ["voice"])

    async def test_a_turn_that_could_not_be_ended_is_ended_whole_and_those_after_it_are_answered(
        self,
    ):
        """Its records wait for company while its end is refused: none of that says it is over."""
        first = await self.arrive("m1", text=QUESTION)
        second = await self.arrive("m2", text=QUESTION)
        self.assertEqual((await self.turn(second)).state, "waiting")
        gone = OperationalError("UPDATE", {}, Exception("terminating connection"))

        async def refused(*_):
            await asyncio.sleep(0.6)  # the stages' own transaction waits for this one by now
            raise gone

        with (
            unittest.mock.patch.object(self.journal, "_wake_following", refused),
            self.assertRaises(OperationalError),
        ):
            await self.driver.work(first)
        self.assertEqual((await self.turn(first)).state, "working")
        for _ in range(100):
            # On a slow machine the stages' transaction is done some time after the end's.
            if "deliver" in (found := [each.name for each in await self.stages(first)]):
                break
            await asyncio.sleep(0.1)
        self.assertIn("deliver", found)
        await self.waiting_jobs()
        await self.driver.work(first)
        self.assertEqual(await self.waiting_jobs(), [second])
        await self.driver.work(second)
        self.assertEqual((await self.turn(first)).state, "answered")
        self.assertEqual((await self.turn(second)).state, "answered")
        self.assertEqual(len(self.sent), 2)

    async def test_a_delivery_whose_beginning_could_not_be_written_is_not_in_doubt(self):
        turn_id = await self.arrive("m1", text=QUESTION)
        claim = await self.journal.claim(turn_id)
        plan = [PlannedDelivery("text", part, each) for part, each in enumerate(("one", "two"))]
        (_, row), _ = await self.journal.outbox.plan(claim, plan)
        gone = OperationalError("UPDATE", {}, Exception("terminating connection"))
        with (
            unittest.mock.patch("fond_echo.records.pending.Pending.write", side_effect=gone),
            self.assertRaises(OperationalError),
        ):
            await self.journal.outbox.move(claim, row, "sending")
        await self.journal.flush(claim)
        self.assertEqual(
            [each.state for each in await self.deliveries(turn_id)], ["sending", "planned"]
        )

    async def test_a_turn_whose_logic_failed_stays_failed_when_its_delivery_comes_later(self):
        self.world.logic.answer = logic_that_fails

        def down(outgoing):
            raise Unreachable("the network is down")

        self.world.channel.on_send = down
        turn_id = await self.arrive("m1", text=QUESTION)
        with unittest.mock.patch("fond_echo.driver.sending.PAUSES", ()):
            await self.driver.work(turn_id)
        self.assertEqual((await self.turn(turn_id)).state, "received")
        self.world.channel.on_send = lambda outgoing: None
        await self.driver.work(turn_id)
        turn = await self.turn(turn_id)
        self.assertEqual((turn.state, turn.error["code"]), ("failed", "logic-failed"))
        self.assertEqual(len(self.sent), 1, "the sender was told")

    async def test_a_finished_turn_is_not_worked_again(self):
        turn_id = await self.arrive("m1", text=QUESTION)
        await self.driver.work(turn_id)
        await self.driver.work(turn_id)
        self.assertEqual(len(self.sent), 1)
        await self.driver.work("00000000-0000-7000-8000-000000000000")

    async def test_a_worker_taken_for_dead_writes_nothing_more(self):
        turn_id = await self.arrive("m1", text=QUESTION)
        claim = await self.journal.claim(turn_id)
        await self.driver.work(turn_id)
        for late in (
            self.journal.finish(claim, None, Closing(ConversationState())),
            self.journal.defer(claim, 1.0),
            self.journal.outbox.plan(claim, []),
        ):
            with self.assertRaises(StaleWorker):
                await late
        self.assertEqual((await self.turn(turn_id)).state, "answered")

    async def test_a_run_is_frozen_while_the_assistant_changes(self):
        turn_id = await self.arrive("m1", sound=note("How much is a ticket?"))
        await self.die_after("transcribe", turn_id)
        await self.publish(ASSISTANT.replace("Four pounds", "Five pounds"))
        await self.driver.work(turn_id)
        self.assertIn("Four pounds", self.sent[0].text)
