"""Turns that an operator ends, or answers with another revision."""

import asyncio

from fond_echo.store.records import Turn
from tests.web.test_doors import QUESTION, ChannelTest

OTHER = "How much is a ticket?"


class Ending(ChannelTest):
    async def begun(self):
        """A turn whose business logic never answers, and the turn after it; whoever carries the
        first."""
        asked = asyncio.Event()
        usual = self.logic.ask

        async def ask(service, request, **more):
            asked.set()
            await asyncio.Event().wait()
            yield

        self.logic.ask = ask
        self.asking = []
        first = await self.post(QUESTION)
        carrying = asyncio.create_task(self.work())
        await asyncio.wait_for(asked.wait(), 20)
        second = await self.post(OTHER)
        self.logic.ask = usual
        return first, second, carrying

    async def post(self, words):
        """A message whose sender waits for the answer; gives its turn's id."""
        post = self.client.post("/ask/desk", json={"text": words, "contact": "isla"})
        self.asking.append(asyncio.create_task(post))
        for _ in range(400):
            turns = (await self.client.get("/api/turns")).json()["items"]
            if turns and turns[0]["text"] == words:
                return turns[0]["id"]
            await asyncio.sleep(0.05)
        self.fail(f"{words!r} did not come in")

    async def leave(self, carrying):
        carrying.cancel()
        await asyncio.gather(carrying, *self.asking, return_exceptions=True)

    async def turn(self, turn_id):
        return (await self.client.get(f"/api/turns/{turn_id}")).json()

    async def test_a_turn_is_ended_and_those_after_it_are_answered(self):
        first, second, carrying = await self.begun()
        ended = await self.client.post(f"/api/turns/{first}/fail", json={"reason": "it hangs"})
        self.assertEqual(ended.status_code, 200, ended.text)
        self.assertEqual(ended.json()["state"], "failed")
        self.assertEqual(ended.json()["error"]["code"], "ended-by-operator")
        self.assertIn("it hangs", ended.json()["error"]["what"])
        await self.work()
        self.assertIn("£4", (await self.turn(second))["deliveries"][0]["text"])
        await self.leave(carrying)
        again = await self.client.post(f"/api/turns/{first}/fail")
        self.assert_problem(again, 409, "conflict")
        self.assert_problem(await self.client.post("/api/turns/0/fail"), 404, "not-found")

    async def test_it_is_answered_with_another_revision_whoever_carries_it(self):
        first, second, carrying = await self.begun()
        plain = await self.client.post(f"/api/turns/{first}/retry")
        self.assert_problem(plain, 409, "conflict")
        wrong = await self.client.post(f"/api/turns/{first}/retry", json={"revision": "0" * 64})
        self.assert_problem(wrong, 404, "not-found")
        async with self.database.writing() as session:
            turn = await session.get_one(Turn, first)
            turn.crashes = 2
        moved = await self.client.post(f"/api/turns/{first}/retry", json={"revision": "live"})
        self.assertEqual(moved.status_code, 200, moved.text)
        await self.work()
        await self.leave(carrying)
        turn = await self.turn(first)
        self.assertEqual((turn["state"], len(turn["runs"])), ("answered", 2))
        self.assertEqual((await self.turn(second))["state"], "answered")
        async with self.database.reading() as session:
            self.assertEqual((await session.get_one(Turn, first)).crashes, 0)
