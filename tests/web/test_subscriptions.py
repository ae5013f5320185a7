"""Subscriptions: events posted to addresses, in order, again and again, and undelivered ones."""

import json
import unittest

from sqlalchemy import update

from fond_echo.contract.signatures import verify
from fond_echo.running.webhook_dispatcher import PAUSES, WebhookDispatcher
from fond_echo.store.event_records import WebhookDelivery
from tests.web.test_doors import ChannelTest


class Subscriptions(ChannelTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.client.put(
            "/api/secrets/listener", json={"value": "whsec_aGVsbG8=", "hosts": ["listen.test"]}
        )
        self.got = []
        self.status = 200

        import httpx

        def listen(request):
            self.got.append((dict(request.headers), request.content))
            return httpx.Response(self.status)

        class World:
            client = httpx.AsyncClient(transport=httpx.MockTransport(listen))
            vault = self.service.vault

        self.dispatcher = WebhookDispatcher(self.service.settings, self.database, World())
        body = {"address": "http://listen.test/in", "secret": "listener", "types": ["turn."]}
        self.subscription = (await self.client.post("/api/subscriptions", json=body)).json()

    async def happen(self):
        await self.working(self.client.post("/ask/desk", json={"text": "What are the fares?"}))
        await self.dispatcher.fan_out()

    async def test_events_are_told_signed_and_in_order(self):
        await self.happen()
        while await self.dispatcher.send_due(self.subscription["id"]):
            pass
        types = [json.loads(body)["type"] for _, body in self.got]
        self.assertEqual(
            (types[0], types[-1]), ("fond-echo.turn.received", "fond-echo.turn.answered")
        )
        self.assertTrue(all(each.startswith("fond-echo.turn.") for each in types))
        headers, body = self.got[0]
        verify(["whsec_aGVsbG8="], headers, body, float(headers["webhook-timestamp"]))
        self.assertEqual(await self.dispatcher.send_due(self.subscription["id"]), 0)

    async def test_what_cannot_be_told_is_tried_again_then_kept_as_dead_and_sent_again(self):
        self.status = 500
        await self.happen()
        # Of one conversation's events each waits for the one before: they are given up in turn.
        while await self.dispatcher.send_due(self.subscription["id"]):
            async with self.database.writing() as session:
                from datetime import UTC, datetime

                await session.execute(update(WebhookDelivery).values(due_at=datetime.now(UTC)))
        (listed,) = (await self.client.get("/api/subscriptions")).json()
        self.assertEqual(listed["waiting"], 0)
        self.assertGreater(listed["undelivered"], 2)
        dead = (await self.client.get(f"/api/subscriptions/{listed['id']}/undelivered")).json()
        self.assertEqual(
            (dead[0]["error"], dead[0]["attempts"]), ("it answered 500", len(PAUSES) + 1)
        )
        self.status, self.got[:] = 200, []
        await self.client.post(f"/api/subscriptions/{listed['id']}/undelivered/retry")
        while await self.dispatcher.send_due(self.subscription["id"]):
            pass
        self.assertEqual(len(self.got), listed["undelivered"])

    async def test_subscriptions_come_and_go(self):
        body = {"address": "http://listen.test/in", "secret": "nobody"}
        self.assert_problem(
            await self.client.post("/api/subscriptions", json=body), 422, "connector-secret"
        )
        await self.happen()
        await self.client.delete(f"/api/subscriptions/{self.subscription['id']}")
        self.assertEqual(await self.dispatcher.send_due(self.subscription["id"]), 0)


if __name__ == "__main__":
    unittest.main()
