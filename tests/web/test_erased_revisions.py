"""Erasing somebody whose words were kept as a case, or became an example."""

import asyncio
import json

from sqlalchemy import func, select

from fond_echo.contract.reply import Reply
from fond_echo.demo.world import files_of
from fond_echo.store.records import Revision
from tests.web.test_commands import Commands

WORDS = "I left my grey umbrella on the Petrel"


class Erasing(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        channel = {"kind": "http", "assistant": "harbour-desk"}
        await self.client.put("/api/channels/desk", json=channel)
        self.logic.answer = lambda asked: Reply(text="At noon.")
        post = {"text": WORDS, "contact": "isla", "name": "Isla Quennell"}
        asked = await self.working(self.client.post("/ask/desk", json=post))
        self.turn = asked.json()["turn"]
        kept = await self.client.get(f"/api/turns/{self.turn}/case", params={"name": "umbrella"})
        files = {**files_of("harbour-desk"), "cases/umbrella.yaml": kept.json()["text"]}
        await self.client.put("/api/assistants/harbour-desk/draft", json={"files": files})
        published = await self.client.post("/api/assistants/harbour-desk/publish")
        self.assertEqual(published.status_code, 200, published.text)
        self.old = published.json()["live"]
        asked = await self.working(self.client.post("/ask/desk", json={**post, "contact": "piet"}))
        self.later = asked.json()["turn"]
        contacts = (await self.client.get("/api/channels/desk/contacts")).json()["items"]
        self.isla = next(each["id"] for each in contacts if each["external_id"] == "isla")
        self.path = f"/api/channels/desk/contacts/{self.isla}"

    async def in_the_database(self):
        async with self.database.reading() as session:
            everywhere = "SELECT count(*) FROM revisions WHERE files::text ILIKE '%grey umbrella%'"
            from sqlalchemy import text

            return (await session.execute(text(everywhere))).scalar_one()

    async def test_nothing_is_erased_before_it_is_said_what_becomes_of_revisions(self):
        refused = self.assert_problem(
            await self.client.delete(self.path), 409, "words-in-revisions"
        )
        self.assertIn("cases/umbrella.yaml", refused["detail"])
        self.assertIn("confirm=true", refused["remedy"])
        self.assertEqual((await self.client.get(f"/api/turns/{self.turn}")).json()["text"], WORDS)
        listed = (await self.client.get(f"{self.path}/words-in-revisions")).json()
        self.assertEqual({each["revision"] for each in listed}, {self.old})
        code, out, err = await self.types("channel", "erase", "desk", "isla")
        self.assertEqual(code, 1)
        self.assertIn(self.old[:12], out)
        self.assertIn("--leave-revisions", err)

    async def test_revisions_are_rewritten_and_what_they_answered_is_read_and_not_replayed(self):
        out = await self.says("channel", "erase", "desk", "isla", "--yes")
        self.assertIn("1 revision rewritten", out)
        self.assertEqual(await self.in_the_database(), 0)
        async with self.database.reading() as session:
            gone = select(func.count()).select_from(Revision).where(Revision.digest == self.old)
            self.assertEqual((await session.execute(gone)).scalar_one(), 0)
        listed = (await self.client.get("/api/assistants")).json()
        live = next(each["live"] for each in listed if each["name"] == "harbour-desk")
        self.assertNotEqual(live, self.old)
        turn = (await self.client.get(f"/api/turns/{self.later}")).json()
        (run,) = turn["runs"]
        self.assertEqual((turn["text"], run["revision"]), (WORDS, live))
        self.assertIsNotNone(run["revision_erased_at"])
        replayed = await self.client.post(f"/api/turns/{self.later}/replays", json={})
        self.assertIn("revision that answered the turn was erased",
                      self.assert_problem(replayed, 409, "conflict")["detail"])  # fmt: skip
        past = json.loads(await self.says("assistant", "history", "harbour-desk", "--json"))
        self.assertNotIn(self.old, json.dumps(past))
        # The assistant goes on.
        post = {"text": "How much is a ticket?", "contact": "piet"}
        asked = await self.working(self.client.post("/ask/desk", json=post))
        self.assertEqual(asked.json()["route"], "fares")
        published = await self.client.post("/api/assistants/harbour-desk/publish")
        self.assertEqual(published.status_code, 200, published.text)

    async def test_a_turn_that_is_under_way_on_such_a_revision_is_answered(self):
        asked, may = asyncio.Event(), asyncio.Event()

        async def ask(service, request, **_):
            asked.set()
            await may.wait()
            yield Reply(text="At noon.")

        self.logic.ask = ask
        post = {"text": "When is the next boat to Pell?", "contact": "piet"}
        answer = asyncio.create_task(self.working(self.client.post("/ask/desk", json=post)))
        await asyncio.wait_for(asked.wait(), 20)
        await self.says("channel", "erase", "desk", "isla", "--yes")
        may.set()
        reported = (await answer).json()
        self.assertEqual((reported["state"], reported["answer"]), ("answered", "At noon."))
        (run,) = (await self.client.get(f"/api/turns/{reported['turn']}")).json()["runs"]
        self.assertNotEqual(run["revision"], self.old)
        self.assertIsNone(run["revision_erased_at"])

    async def test_or_left_as_they_are(self):
        await self.says("channel", "erase", "desk", "isla", "--leave-revisions")
        self.assertEqual(await self.in_the_database(), 1)
        self.assertEqual((await self.client.get(f"/api/turns/{self.turn}")).json()["text"], "")

    async def test_rewriting_needs_the_right_to_build(self):
        key = (
            await self.client.post("/api/keys", json={"name": "desk", "scopes": ["operate"]})
        ).json()
        headers = {"Authorization": f"Bearer {key['key']}"}
        refused = await self.nobody.delete(f"{self.path}?confirm=true", headers=headers)
        self.assert_problem(refused, 403, "not-allowed")
        self.assertEqual(await self.in_the_database(), 1)
