"""Events delivered to subscriptions: in order, whatever other subscriptions do, and for ever."""

import asyncio
import json

import httpx
from sqlalchemy import select, text, update

from fond_echo.background import keep_running
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.running.webhook_dispatcher import WebhookDispatcher
from fond_echo.settings import Settings
from fond_echo.store.access_records import SecretRecord
from fond_echo.store.event_records import Subscription, WebhookDelivery
from fond_echo.store.events import emit
from tests.support.database import DatabaseTest


class World:
    """Servers that listen, by host; each may fail or hang."""

    def __init__(self):
        self.got = []
        self.statuses = {}
        self.hanging = set()
        self.client = httpx.AsyncClient(transport=httpx.MockTransport(self.listen))

    async def listen(self, request):
        event = json.loads(request.content)
        if request.url.host in self.hanging:
            await asyncio.Event().wait()
        status = self.statuses.get((request.url.host, event["subject"]), 200)
        self.got.append((request.url.host, event["subject"], event["type"], status))
        return httpx.Response(status)

    async def vault(self):
        hosts = frozenset(["quick.test", "hangs.test", "other.test"])
        return Vault({"listener": Secret("listener", "whsec_aGVsbG8=", hosts)})


class Dispatching(DatabaseTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.world = World()
        settings = Settings(database=self.url, _env_file=None)
        self.dispatcher = WebhookDispatcher(settings, self.database, self.world)

    async def subscribe(self, address):
        async with self.database.writing() as session:
            if await session.get(SecretRecord, "listener") is None:
                session.add(SecretRecord(name="listener", token=b"", hosts=[]))
            record = Subscription(address=address, secret="listener", types=[], cursor="0-0")
            session.add(record)
            await session.flush()
            return record.id

    async def happen(self, *events):
        for type, subject in events:
            async with self.database.writing() as session:
                await emit(session, type, subject)
        await self.dispatcher.fan_out()

    def heard(self, host="quick.test", status=200):
        return [(s, t.removeprefix("fond-echo.")) for h, s, t, code in self.world.got
                if h == host and code == status]  # fmt: skip

    async def due_now(self):
        async with self.database.writing() as session:
            await session.execute(update(WebhookDelivery).values(due_at=text("now()")))

    async def test_those_of_one_call_stay_in_order_after_a_failure_and_others_go_on(self):
        mine = await self.subscribe("http://quick.test/in")
        self.world.statuses["quick.test", "call-1"] = 500
        await self.happen(
            ("call.ringing", "call-1"), ("call.answered", "call-1"), ("call.ringing", "call-2")
        )
        while await self.dispatcher.send_due(mine):
            pass
        self.assertEqual(self.heard(), [("call-2", "call.ringing")])
        self.assertEqual(self.heard(status=500), [("call-1", "call.ringing")])
        await self.happen(("call.ended", "call-1"))
        self.world.statuses.clear()
        await self.due_now()
        while await self.dispatcher.send_due(mine):
            pass
        wanted = [("call-1", f"call.{each}") for each in ("ringing", "answered", "ended")]
        self.assertEqual(self.heard()[1:], wanted)

    async def test_a_server_that_hangs_costs_others_nothing_and_holds_no_transaction(self):
        slow = await self.subscribe("http://hangs.test/in")
        quick = await self.subscribe("http://quick.test/in")
        self.world.hanging.add("hangs.test")
        await self.happen(("turn.answered", "t1"))
        hanging = asyncio.create_task(self.dispatcher.send_due(slow))
        await asyncio.sleep(0.1)
        await self.happen(("turn.answered", "t2"))
        while await self.dispatcher.send_due(quick):
            pass
        self.assertEqual({subject for subject, _ in self.heard()}, {"t1", "t2"})
        async with self.database.reading() as session:
            mine = "pid <> pg_backend_pid() AND datname = current_database()"
            open_ = text(
                f"SELECT count(*) FROM pg_stat_activity WHERE state LIKE 'idle in%' AND {mine}"
            )
            self.assertEqual(await session.scalar(open_), 0)
        hanging.cancel()

    async def test_whatever_is_wrong_with_a_subscription_is_its_own(self):
        broken = await self.subscribe("http://127.0.0.1:abc/")
        quick = await self.subscribe("http://quick.test/in")
        await self.happen(("turn.answered", "t1"))
        await self.dispatcher.send_due(broken)
        await self.dispatcher.send_due(quick)
        self.assertEqual(len(self.heard()), 1)
        async with self.database.reading() as session:
            errors = set(await session.scalars(select(WebhookDelivery.error)))
        self.assertTrue(any("not an address" in each for each in errors), errors)

    async def test_two_processes_post_each_delivery_once(self):
        mine = await self.subscribe("http://quick.test/in")
        await self.happen(*[("turn.answered", f"t{number}") for number in range(40)])
        other = WebhookDispatcher(self.dispatcher._settings, self.database, self.world)
        while sum(await asyncio.gather(self.dispatcher.send_due(mine), other.send_due(mine))):
            pass
        subjects = sorted(subject for subject, _ in self.heard())
        self.assertEqual(subjects, sorted(f"t{number}" for number in range(40)))

    async def test_it_runs_and_is_started_again_when_it_breaks(self):
        await self.subscribe("http://quick.test/in")
        breaks = [RuntimeError("a bug")]
        fan_out = self.dispatcher.fan_out

        async def breaking():
            if breaks:
                raise breaks.pop()
            return await fan_out()

        self.dispatcher.fan_out = breaking
        running = asyncio.create_task(keep_running("the dispatcher", self.dispatcher.run))
        async with self.database.writing() as session:
            await emit(session, "turn.answered", "t1")
        async with asyncio.timeout(20):
            while not self.heard():  # noqa: ASYNC110  # it is told no other way
                await asyncio.sleep(0.05)
        running.cancel()
        await asyncio.gather(running, return_exceptions=True)
        await asyncio.gather(*self.dispatcher._senders.values(), return_exceptions=True)
