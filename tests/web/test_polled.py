"""A network that is asked for messages, over the API: from when on, paused, and what was unreadable."""

import httpx

from fond_echo.demo.world import files_of
from fond_echo.running.polling import Poller
from fond_echo.standins.feed.app import create_app
from tests.support.web import WebTest
from tests.support.world import demo_file


class Polled(WebTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.feed = httpx.AsyncClient(
            transport=httpx.ASGITransport(create_app("word")), base_url="http://feed.test"
        )
        self.addAsyncCleanup(self.feed.aclose)
        self.service.builder.client = self.feed
        secret = {"value": "word", "hosts": ["feed.test"]}
        await self.client.put("/api/secrets/spindrift-pass", json=secret)
        await self.client.put(
            "/api/assistants/harbour-desk/draft", json={"files": files_of("harbour-desk")}
        )
        await self.client.post("/api/assistants/harbour-desk/publish")
        for words in ("first", "second"):
            await self.feed.post("/people/isla", json={"body": words})

    async def connect(self, connector):
        channel = {
            "assistant": "harbour-desk",
            "connector": connector,
            "values": {"base": "http://feed.test"},
        }
        return (await self.client.put("/api/channels/spindrift", json=channel)).json()

    async def came(self):
        """What came in once the network was asked."""
        self.assertIsNotNone(await Poller(self.database, self.service)._once("spindrift"))
        turns = (await self.client.get("/api/turns")).json()["items"]
        return sorted(each["text"] for each in turns)

    async def test_what_was_sent_before_is_passed_over_or_not_as_the_file_says(self):
        text = demo_file("spindrift.yaml")
        self.assertEqual((await self.connect(text))["state"], "polling")
        self.assertEqual(await self.came(), [])
        await self.feed.post("/people/isla", json={"body": "third"})
        self.assertEqual(await self.came(), ["third"])

    async def test_from_the_backlog_on(self):
        text = demo_file("spindrift.yaml").replace("poll:\n", "poll:\n    begin: backlog\n")
        self.assertIn("begin: backlog", text)
        await self.connect(text)
        self.assertEqual(await self.came(), ["first", "second"])

    async def test_paused_and_gone_on_with(self):
        await self.connect(demo_file("spindrift.yaml"))
        paused = (await self.client.post("/api/channels/spindrift/pause")).json()
        self.assertEqual(paused["state"], "paused")
        self.assertIsNone(await Poller(self.database, self.service)._once("spindrift"))
        await self.feed.post("/people/isla", json={"body": "meanwhile"})
        again = (await self.client.post("/api/channels/spindrift/connect")).json()
        self.assertEqual(again["state"], "polling")
        self.assertEqual(await self.came(), ["meanwhile"])
        self.assert_problem(await self.client.post("/api/channels/nobody/pause"), 404, "not-found")

    async def test_what_cannot_be_read_is_listed_and_goes_with_its_channel(self):
        await self.connect(demo_file("spindrift.yaml"))
        strange = {"ref": "a", "thread": "t", "body": "nobody said it"}
        answer = httpx.Response(200, json={"next": "9", "items": [strange]})
        self.service.builder.client = httpx.AsyncClient(
            transport=httpx.MockTransport(lambda _: answer)
        )
        self.assertEqual(await self.came(), [])
        path = "/api/channels/spindrift"
        self.assertEqual((await self.client.get(path)).json()["unreadable"], 1)
        (kept,) = (await self.client.get(f"{path}/unreadable")).json()
        self.assertEqual(kept["payload"], strange)
        self.assertIn("$.from.code", kept["reason"])
        metrics = (await self.client.get("/metrics")).text
        self.assertRegex(metrics, r'unreadable[^\n]*channel="spindrift"[^\n]* 1')
        renamed = await self.client.post(f"{path}/name", json={"name": "feed"})
        self.assertEqual(renamed.status_code, 200, renamed.text)
        self.assertEqual(len((await self.client.get("/api/channels/feed/unreadable")).json()), 1)
        self.assertEqual((await self.client.delete("/api/channels/feed")).status_code, 204)
        self.assert_problem(
            await self.client.get("/api/channels/feed/unreadable"), 404, "not-found"
        )
