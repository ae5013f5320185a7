"""The draft for testers: named contacts are answered by it, everyone else by what is live."""

import asyncio
import json

from sqlalchemy import select

from fond_echo.store.records import Usage
from tests.web.test_commands import DESK, Commands

TEA = """\
assistant: small-desk
voice: tern
greeting: Good day.
logic:
  kitchen: {url: "http://127.0.0.1:1/logic", key: {secret: skerry-mark}}
routes:
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: Five pounds.}
  - route: tea
    examples: [Where can I get tea?]
    reply: {logic: kitchen.steep}
fallback:
  reply: {text: I know about fares and tea.}
"""


class Testers(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        self.desk = {"assistant.yaml": DESK}
        await self.drafted(DESK)
        await self.client.post("/api/assistants/small-desk/publish")
        await self.drafted(TEA)
        channel = (await self.client.get("/api/channels/skerry")).json()
        again = {
            "assistant": "small-desk", "connector": channel["connector"],
            "values": channel["values"],
            "settings": {"access": {"mode": "list"}, "quotas": {"turns": 1}},
        }  # fmt: skip
        answer = await self.client.put("/api/channels/skerry", json=again)
        self.assertEqual(answer.status_code, 200, answer.text)

    async def drafted(self, text):
        files = {"files": {"assistant.yaml": text}}
        answer = await self.client.put("/api/assistants/small-desk/draft", json=files)
        self.assertEqual(answer.status_code, 200, answer.text)

    async def says_it(self, words, who="isla"):
        """Somebody writes; gives the turn that answered, and with what."""
        self.number = getattr(self, "number", 0) + 1
        sender = {"id": who, "name": who.title(), "automated": False}
        post = self.post(id=f"post-{self.number}", words=words, room=f"room-{who}", sender=sender)
        await self.send({"posts": [post]})
        await self.work()
        turn = (await self.client.get("/api/turns", params={"limit": 1})).json()["items"][0]
        return turn, " ".join(each["text"] for each in turn["deliveries"])

    async def test_a_tester_has_the_draft_and_all_others_what_is_live(self):
        out = await self.says("channel", "testers", "skerry", "--add", "isla")
        self.assertIn("isla", out)
        self.assertIn("turn follow --channel skerry --draft", out)
        # She never wrote before, and only who is listed is answered.
        turn, answer = await self.says_it("How much is a ticket?")
        self.assertEqual((answer, turn["draft"]), ("Five pounds.", True))
        await self.says_it("How much is a ticket?", "mairi")
        await self.says("channel", "allow", "skerry", "mairi")
        turn, answer = await self.says_it("How much is a ticket?", "mairi")
        self.assertEqual((answer, turn["draft"]), ("Four pounds.", False))
        # A changed draft answers from the next turn on; nothing is published for it.
        await self.drafted(TEA.replace("Five", "Six"))
        turn, answer = await self.says_it("How much is a ticket?")
        self.assertEqual(answer, "Six pounds.")
        shown = await self.says("turn", "show", turn["id"])
        self.assertIn("answered by the draft", shown)
        # One with a fault is not kept: the last good one goes on.
        files = {"files": {"assistant.yaml": TEA.replace("routes:", "rooms:")}}
        refused = await self.client.put("/api/assistants/small-desk/draft", json=files)
        self.assertEqual(refused.status_code, 422)
        self.assertEqual((await self.says_it("How much is a ticket?"))[1], "Six pounds.")
        self.assertEqual(
            (await self.says("channel", "testers", "skerry", "--remove", "isla")).count("isla"), 0
        )
        turn, answer = await self.says_it("How much is a ticket?")
        self.assertEqual((answer, turn["draft"]), ("Four pounds.", False))

    async def test_their_turns_count_for_nothing_and_business_logic_is_told(self):
        await self.says("channel", "testers", "skerry", "--add", "isla")
        for words in ("Where can I get tea?", "Do you sell canoes?", "Do you sell canoes?"):
            turn, answer = await self.says_it(words)
            self.assertTrue(turn["draft"], answer)
        (requested,) = self.logic.requested
        self.assertEqual((requested.action, requested.draft), ("steep", True))
        async with self.database.reading() as session:
            # The quota is one turn a day: a tester has none.
            self.assertEqual((await session.scalars(select(Usage))).all(), [])
        self.assertEqual((await self.client.get("/api/assistants/small-desk/gaps")).json(), [])
        await self.says("channel", "allow", "skerry", "isla")
        await self.says("channel", "testers", "skerry", "--remove", "isla")
        await self.says_it("Do you sell canoes?")
        (gap,) = (await self.client.get("/api/assistants/small-desk/gaps")).json()
        self.assertEqual(gap["count"], 1)
        self.assertEqual(len((await self.reported("turn", "list", "--draft"))["items"]), 3)
        everyone = await self.client.get("/api/turns", params={"draft": "false"})
        self.assertEqual(len(everyone.json()["items"]), 1)

    async def test_a_question_that_is_open_when_the_draft_changes_is_answered_by_its_own(self):
        asks = TEA.replace(
            "    reply: {text: Five pounds.}",
            "    slots: {people: {kind: number, ask: For how many?, required: true}}\n"
            "    reply: {text: 'For {{ slots.people }}, five pounds.'}",
        )
        await self.drafted(asks)
        await self.says("channel", "testers", "skerry", "--add", "isla")
        self.assertEqual((await self.says_it("How much is a ticket?"))[1], "For how many?")
        await self.drafted(TEA)
        self.assertEqual((await self.says_it("3"))[1], "For 3, five pounds.")
        self.assertEqual((await self.says_it("How much is a ticket?"))[1], "Five pounds.")

    async def test_turns_are_followed_stage_by_stage(self):
        await self.says("channel", "testers", "skerry", "--add", "isla", "--add", "mairi")
        out = await self.followed("--draft")
        self.assertIn("Isla on skerry, text, draft", out)
        self.assertRegex(out, r"route +[0-9.]+ ms  fares: ")
        self.assertIn("→ text     Five pounds.  [", out)
        self.assertTrue(json.loads(await self.followed("--json"))["draft"])

    async def followed(self, *how):
        """What following says of one turn; it may begin to listen after the first was over."""
        command = ("turn", "follow", "--channel", "skerry", "--count", "1", *how)
        following = asyncio.create_task(self.says(*command))
        for _ in range(100):
            await asyncio.wait([following], timeout=0.2)
            if following.done():
                break
            await self.says_it("How much is a ticket?")
        return await asyncio.wait_for(following, 10)

    async def test_what_cannot_be(self):
        self.assertIn(
            "no tester 'isla'", await self.fails("channel", "testers", "skerry", "--remove", "isla")
        )
        self.assertIn(
            "no channel 'gale'", await self.fails("channel", "testers", "gale", "--add", "isla")
        )
        self.assertIn("everyone", await self.says("channel", "testers", "skerry"))
        answer = await self.client.post("/api/channels/skerry/testers", json={"contact": ""})
        self.assert_problem(answer, 422, "request")
        made = await self.reported("key", "create", "looker", "--scope", "read")
        looker = self.with_key(made["key"])
        self.assertEqual((await looker.get("/api/channels/skerry/testers")).json(), [])
        answer = await looker.post("/api/channels/skerry/testers", json={"contact": "isla"})
        self.assertEqual(answer.status_code, 403)
        # Whom nothing is known of any more is no tester either.
        await self.says("channel", "testers", "skerry", "--add", "isla")
        await self.says("channel", "erase", "skerry", "isla")
        self.assertEqual((await looker.get("/api/channels/skerry/testers")).json(), [])
