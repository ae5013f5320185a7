"""A channel's contract: what it says is what the channel does."""

import json
import re

from tests.web.test_commands import DESK, Commands


class Contracts(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        await self.client.put(
            "/api/assistants/small-desk/draft", json={"files": {"assistant.yaml": DESK}}
        )
        await self.client.post("/api/assistants/small-desk/publish")
        channel = {"kind": "http", "assistant": "small-desk",
                   "settings": {"quotas": {"turns": 7}, "max_audio_minutes": 3}}  # fmt: skip
        await self.client.put("/api/channels/desk", json=channel)

    async def test_it_has_the_response_the_fields_the_errors_and_the_limits(self):
        text = await self.says("channel", "contract", "desk")
        shown = json.loads(re.search(r"```json\n(.*?)\n```", text, re.DOTALL)[1])
        self.assertEqual((shown["answer"], shown["route"]), ("Four pounds.", "fares"))
        # Every field of a response that comes is explained.
        asked = await self.working(
            self.client.post("/ask/desk", json={"text": "How much is a ticket?", "contact": "isla"})
        )
        for field in asked.json():
            self.assertRegex(text, rf"\| `{field}` \| [a-z ]+ \| .+ \|")
        self.assertEqual(set(shown), set(asked.json()))
        self.assertIn("7 turns a contact and day", text)
        self.assertIn("sound of 3 minutes", text)
        for code in ("not-signed-in", "conflict", "nothing-asked"):
            self.assertIn(f"`{code}`", text)
        self.assert_problem(await self.nobody.post("/ask/desk", json={}), 401, "not-signed-in")
        self.assert_problem(await self.client.post("/ask/desk", json={}), 422, "nothing-asked")
        # Words of a contact are in it only where that is wanted.
        self.assertNotIn("The last exchange", text)
        self.assertIn(
            '"conversation": "isla"', await self.says("channel", "contract", "desk", "--last")
        )

    async def test_only_programs_have_one(self):
        self.assertIn("skerry is a chat channel", await self.fails("channel", "contract", "skerry"))
        self.assertIn("no channel 'quay'", await self.fails("channel", "contract", "quay"))
