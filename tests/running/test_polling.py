"""A network that is asked for messages: by one process at a time, as the channel is now."""

import asyncio
import contextlib
import unittest.mock

import httpx
from sqlalchemy import select, update

from fond_echo.channels.build import ChannelBuilder
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.running import polling
from fond_echo.running.polling import Poller
from fond_echo.standins.feed.app import create_app
from fond_echo.store.notices import Notices, announce
from fond_echo.store.records import Channel, Inbound, UnreadableMessage
from tests.support.driving import Driving
from tests.support.world import demo_file

FEED = "http://feed.test"


class Polling(Driving):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.feed = httpx.AsyncClient(
            transport=httpx.ASGITransport(create_app("word")), base_url=FEED
        )
        self.builder = ChannelBuilder(self.feed, None)
        connector = demo_file("spindrift.yaml").replace("every: 1s", "every: 50ms")
        async with self.database.writing() as session:
            assistant = (await session.scalars(select(Channel.assistant))).first()
            session.add(
                Channel(
                    name="feed", kind="chat", assistant=assistant, connector=connector,
                    values={"base": FEED}, facts={}, settings={}, state="connected",
                )
            )  # fmt: skip

    async def vault(self):
        return Vault({"spindrift-pass": Secret("spindrift-pass", "word", frozenset(["feed.test"]))})

    @contextlib.asynccontextmanager
    async def process(self):
        poller = Poller(self.database, self)
        tasks = [
            asyncio.create_task(Notices(self.database, poller.told).listen()),
            asyncio.create_task(poller.run()),
        ]
        try:
            yield poller
        finally:
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)

    async def become(self, state):
        async with self.database.writing() as session:
            changed = update(Channel).where(Channel.name == "feed").values(state=state)
            await session.execute(changed)
            await announce(session, "channel.changed", "feed")

    async def write(self, words):
        (await self.feed.post("/people/isla", json={"body": words})).raise_for_status()

    async def arrived(self):
        async with self.database.reading() as session:
            rows = await session.scalars(select(Inbound).where(Inbound.channel == "feed"))
            return [row.message["text"] for row in rows]

    async def until(self, *words):
        for _ in range(400):
            if sorted(await self.arrived()) == sorted(words):
                return
            await asyncio.sleep(0.05)
        self.assertEqual(sorted(await self.arrived()), sorted(words))

    async def test_a_notice_begins_and_ends_it(self):
        async with self.process():
            await self.write("first")
            await asyncio.sleep(0.2)
            self.assertEqual(await self.arrived(), [])
            await self.become("polling")
            await self.until("first")
            await self.write("second")
            await self.until("first", "second")
            await self.become("connected")
            await asyncio.sleep(0.2)
            await self.write("third")
            await asyncio.sleep(0.3)
            self.assertEqual(len(await self.arrived()), 2)
            await self.become("polling")
            await self.until("first", "second", "third")

    async def channel(self):
        async with self.database.reading() as session:
            return await session.get(Channel, "feed")

    async def eventually(self, true_of):
        for _ in range(200):
            if true_of(found := await self.channel()):
                return found
            await asyncio.sleep(0.05)
        raise AssertionError((found.state, found.reason, found.unreadable))

    async def test_what_cannot_be_read_stands_in_nobodys_way(self):
        pages = iter(
            (
                {"next": "1", "items": [
                    {"ref": "a", "thread": "t", "body": "first", "from": {"code": "isla"}},
                    {"ref": "b", "thread": "t", "body": "nobody said it"},
                    "no message at all", None, 7, [],
                    {"ref": "c", "thread": "t", "from": {"code": ["odd"], "label": {"x": 1}}},
                    {"ref": "d", "thread": "t", "body": "last", "from": {"code": "isla"}},
                ]},
                {"next": "2", "items": "nothing that holds items"},
                {"next": "3", "items": [
                    {"ref": "e", "thread": "t", "body": "behind", "from": {"code": "isla"}}]},
            )
        )  # fmt: skip
        last = {"next": "3", "items": []}
        client = httpx.AsyncClient(
            transport=httpx.MockTransport(lambda _: httpx.Response(200, json=next(pages, last)))
        )
        self.builder = ChannelBuilder(client, None)
        await self.become("polling")
        async with self.process():
            await self.until("first", "last", "behind", "")
            # How far it was read is written after what was read.
            for _ in range(100):
                found = await self.channel()
                if found.cursor == "3":
                    break
                await asyncio.sleep(0.05)
        self.assertEqual((found.cursor, found.unreadable), ("3", 5))
        async with self.database.reading() as session:
            kept = (await session.scalars(select(UnreadableMessage))).all()
        self.assertEqual(len(kept), 5)
        self.assertTrue(all("nothing at" in each.reason for each in kept), kept)
        self.assertIn({"value": "no message at all"}, [each.payload for each in kept])

    async def test_why_it_cannot_be_polled_stands_on_the_channel(self):
        refuses = True

        def answer(request):
            if refuses:
                return httpx.Response(401, text="that pass is not known")
            return httpx.Response(200, json={"next": "1", "items": []})

        self.builder = ChannelBuilder(
            httpx.AsyncClient(transport=httpx.MockTransport(answer)), None
        )
        await self.become("polling")
        with unittest.mock.patch.object(polling, "WAIT_AFTER_ERROR", 0.05):
            async with self.process():
                found = await self.eventually(lambda each: each.reason)
                self.assertIn("401", found.reason)
                self.assertEqual(found.state, "polling")
                refuses = False
                await self.eventually(lambda each: not each.reason)

    async def test_two_processes_take_each_message_once_and_one_goes_on_alone(self):
        await self.become("polling")
        async with self.process():
            async with self.process():
                await self.write("first")
                await self.until("first")
            await self.write("second")
            await self.until("first", "second")
