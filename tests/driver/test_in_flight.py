"""Turns with which processes end, and processes that stand still while they carry turns."""

import asyncio

from sqlalchemy import text

from fond_echo.contract.reply import Reply
from fond_echo.driver.in_flight import MAX_CRASHES
from fond_echo.driver.queued import QueuedDriver
from fond_echo.records.journal import Journal
from fond_echo.store.liveness import SPACE, Liveness
from tests.support.driving import QUESTION, Driving, Killed


class Waiting:
    """Business logic that is asked, and answers when it may."""

    def __init__(self, *, puts_down=False):
        self.may, self.requested = asyncio.Event(), []
        self.exchanges = []
        self.dies, self.puts_down = False, puts_down
        self._asked = asyncio.Semaphore(0)

    async def asked(self, count=1):
        """Wait until it was asked so often more."""
        for _ in range(count):
            await asyncio.wait_for(self._asked.acquire(), 20)

    async def ask(self, service, request, *, safe=False, listener=None, once=None):
        if self.puts_down:
            await once("question-1")
        self.requested.append(request)
        self._asked.release()
        if self.dies:
            raise Killed
        await self.may.wait()
        yield Reply(text="At noon.")


class Deaths(Driving):
    def journal_of(self, number):
        return Journal(self.database, self.queue, number)

    async def dies_with(self, turn_id, number):
        """A process claims a turn and is gone."""
        return await self.journal_of(number).claim(turn_id)

    async def work_on(self, turn_id, number=900):
        await QueuedDriver(self.journal_of(number), self.world).work(turn_id)

    async def test_a_turn_with_which_three_processes_ended_is_given_up_with_an_apology(self):
        turn_id = await self.arrive("m1", text=QUESTION)
        after = await self.arrive("m2", text="How much is a ticket?")
        for number in range(1, MAX_CRASHES + 1):
            await self.dies_with(turn_id, number)
        await self.work_on(turn_id)
        turn = await self.turn(turn_id)
        self.assertEqual((turn.state, turn.error["code"]), ("failed", "workers-crashed"))
        self.assertEqual(len(self.sent), 1, "the sender was told")
        self.assertEqual(self.world.logic.requested, [])
        await self.work_on(after)
        self.assertIn("Four pounds", self.sent[1].text)

    async def test_where_the_apology_ends_a_process_too_there_is_none(self):
        turn_id = await self.arrive("m1", text=QUESTION)
        for number in range(1, MAX_CRASHES + 2):
            await self.dies_with(turn_id, number)
        await self.work_on(turn_id)
        turn = await self.turn(turn_id)
        self.assertEqual((turn.state, turn.error["code"]), ("failed", "workers-crashed"))
        self.assertEqual(self.sent, [])

    async def test_a_process_that_stands_still_is_no_dead_one(self):
        turn_id = await self.arrive("m1", text=QUESTION)
        others = [Liveness(self.database) for _ in range(2)]
        holding = [asyncio.create_task(each.hold()) for each in others]
        for each in others:
            await each.held()
        for _ in range(3):
            for each in others:
                await self.dies_with(turn_id, each.number)
        self.assertEqual((await self.turn(turn_id)).crashes, 0)
        await self.work_on(turn_id)
        self.assertEqual((await self.turn(turn_id)).state, "answered")
        for task in holding:
            task.cancel()
        await asyncio.gather(*holding, return_exceptions=True)

    async def test_nor_is_one_whose_database_went_away_for_a_while(self):
        liveness = Liveness(self.database)
        holding = asyncio.create_task(liveness.hold())
        await liveness.held()
        count = "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND classid = :space"
        end = (
            "SELECT pg_terminate_backend(pid) FROM pg_locks "
            "WHERE locktype = 'advisory' AND classid = :space"
        )
        async with self.database.writing() as session:
            await session.execute(text(end), {"space": SPACE})
        for _ in range(200):
            await asyncio.sleep(0.1)
            async with self.database.reading() as session:
                if (await session.execute(text(count), {"space": SPACE})).scalar_one() == 1:
                    break
        else:
            self.fail("it did not show itself again")
        holding.cancel()
        await asyncio.gather(holding, return_exceptions=True)

    async def test_nor_is_one_that_is_told_to_stop(self):
        turn_id = await self.arrive("m1", text=QUESTION)
        for number in (1, 2, 3, 4):
            self.world.logic = logic = Waiting()
            work = asyncio.create_task(self.work_on(turn_id, number))
            await logic.asked()
            work.cancel()
            await asyncio.gather(work, return_exceptions=True)
        turn = await self.turn(turn_id)
        self.assertEqual((turn.state, turn.crashes, turn.worker), ("working", 0, None))

    async def test_of_turns_that_were_carried_together_one_is_tried_at_a_time(self):
        first = await self.arrive("m1", text=QUESTION)
        second = await self.arrive("m2", text=QUESTION, conversation="room-2", contact="piet")
        for each in (first, second):
            await self.dies_with(each, 1)
        self.world.logic = logic = Waiting()
        driver = QueuedDriver(self.journal_of(2), self.world)
        work = asyncio.create_task(driver.work(first))
        await logic.asked()
        await self.waiting_jobs()
        await driver.work(second)
        self.assertEqual(len(logic.requested), 1)
        self.assertEqual(await self.waiting_jobs(), [second], "it is left for a moment")
        self.assertIsNone((await self.turn(second)).worker)
        logic.may.set()
        await work
        await driver.work(second)
        self.assertEqual([(await self.turn(each)).state for each in (first, second)],
                         ["answered", "answered"])  # fmt: skip


class StoodStill(Driving):
    async def test_what_another_process_took_meanwhile_is_let_go_of_at_once(self):
        turn_id = await self.arrive("m1", text=QUESTION)
        other = await self.arrive("m2", text=QUESTION, conversation="room-2", contact="piet")
        logic = self.world.logic = Waiting()
        work = [asyncio.create_task(self.driver.work(each)) for each in (turn_id, other)]
        await logic.asked(2)
        self.world.logic = quick = Waiting()
        quick.may.set()
        await QueuedDriver(Journal(self.database, self.queue, 7), self.world).work(turn_id)
        self.assertEqual(await self.driver.in_flight.let_go_of_taken(), 1)
        await asyncio.wait_for(work[0], 20)
        self.assertFalse(work[1].done(), "what is still ours is carried on")
        logic.may.set()
        await work[1]
        self.assertEqual(len(self.sent), 2)
        self.assertEqual(len(await self.deliveries(turn_id)), 1)

    async def test_logic_that_would_take_it_for_another_question_is_not_asked_again(self):
        turn_id = await self.arrive("m1", text=QUESTION)
        logic = self.world.logic = Waiting(puts_down=True)
        logic.dies = True
        try:
            await self.driver.work(turn_id)
        except Killed:
            logic.dies = False
        logic.may.set()
        await self.driver.work(turn_id)
        turn = await self.turn(turn_id)
        self.assertEqual(len(logic.requested), 1)
        self.assertEqual((turn.state, turn.error["code"]), ("failed", "asked-before"))
        self.assertEqual(len(self.sent), 1, "the sender was told")
