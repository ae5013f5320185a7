"""The web process's application in this process, over a database of its own."""

from __future__ import annotations

import asyncio
import hmac
import json
import time
from functools import lru_cache
from hashlib import sha256
from typing import Any

import httpx
from fastapi import FastAPI
from sqlalchemy import text

from fond_echo.contract.renditions import LINK_HOURS
from fond_echo.demo.world import files_of
from fond_echo.driver.queued import QueuedDriver
from fond_echo.records.journal import Journal
from fond_echo.settings import Settings
from fond_echo.signed_links import link_to
from fond_echo.standins.chat.app import create_app as create_network
from fond_echo.turns.needs import Needs
from fond_echo.web.app import create_app, serving
from tests.support.database import DatabaseTest
from tests.support.world import LocalSpeech, MemoryLogic, PlainDecoder, demo_file

ADMIN = "fe-admin-key-for-tests"
MARK = "mark-of-the-network"


@lru_cache(maxsize=1)
def application() -> FastAPI:
    """The application, made once: each test has settings and a database of its own."""
    return create_app(Settings(_env_file=None))


class WebTest(DatabaseTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        settings = Settings(
            database=self.url, first_key=ADMIN, port=9999, speech_port=1, _env_file=None,
            secret_keys=["MDEyMzQ1Njc4OTAxMjM0NTY3ODkwMTIzNDU2Nzg5MDE="],
        )  # fmt: skip
        self.app = application()
        await self.enterAsyncContext(serving(self.app, settings))
        self.service = self.app.state.service
        self.network = create_network("bot-token", MARK)
        self.service.builder.client = httpx.AsyncClient(transport=httpx.ASGITransport(self.network))
        self.service.recognizer, self.service.decoder = LocalSpeech(), PlainDecoder()
        self.logic = MemoryLogic()
        self.client = self.with_key(ADMIN)
        self.nobody = self.with_key("")

    def with_key(self, key, **headers):
        if key:
            headers["Authorization"] = f"Bearer {key}"
        transport = httpx.ASGITransport(self.app, raise_app_exceptions=False)
        client = httpx.AsyncClient(
            transport=transport, base_url="http://echo.test", headers=headers
        )
        self.addAsyncCleanup(client.aclose)
        return client

    async def fill(self):
        await self.client.put(
            "/api/secrets/skerry-token", json={"value": "bot-token", "hosts": ["skerry.test"]}
        )
        await self.client.put("/api/secrets/skerry-mark", json={"value": MARK})
        files = files_of("harbour-desk")
        await self.client.put("/api/assistants/harbour-desk/draft", json={"files": files})
        await self.client.post("/api/assistants/harbour-desk/publish")
        channel = {
            "assistant": "harbour-desk",
            "connector": demo_file("skerry.yaml"),
            "values": {"base": "http://skerry.test"},
        }
        return await self.client.put("/api/channels/skerry", json=channel)

    def post(self, id="post-1", **changes):
        post = {"id": id, "room": "room-isla", "words": "Next boat to Pell",
                "sender": {"id": "isla", "name": "Isla Quennell", "automated": False}}  # fmt: skip
        return {**post, **changes}

    async def send(self, body, *, at=None, mark=MARK):
        raw = body if isinstance(body, bytes) else json.dumps(body).encode()
        at = str(int(time.time()) if at is None else at)
        mac = hmac.new(mark.encode(), at.encode() + b"." + raw, sha256).hexdigest()
        headers = {"X-Skerry-Time": at, "X-Skerry-Mark": mac}
        return await self.nobody.post("/webhooks/skerry", content=raw, headers=headers)

    def assert_problem(self, response, status, code):
        self.assertEqual(response.status_code, status, response.text)
        self.assertEqual(response.headers["content-type"], "application/problem+json")
        self.assertTrue(response.json()["type"].endswith("/" + code), response.text)
        return response.json()

    async def work(self) -> None:
        """Do the jobs that wait, as a work process would."""
        driver = QueuedDriver(Journal(self.database, self.service.queue), self)
        while True:
            async with self.database.writing() as session:
                taken = text(
                    "DELETE FROM procrastinate_jobs WHERE status = 'todo'"
                    " AND (scheduled_at IS NULL OR scheduled_at <= now())"
                    " RETURNING task_name, args"
                )
                rows = (await session.execute(taken)).all()
            for row in rows:
                if row.task_name == "work-turn":
                    await driver.work(**row.args)
                else:
                    await driver.decide(**row.args)
            if not rows:
                return await driver.settled()

    async def needs(self, channel: Any, now: Any, assistant: Any = None) -> Needs:
        speech = LocalSpeech()
        built = self.service.builder.build(channel, await self.service.vault())
        return Needs(
            built, speech, speech, PlainDecoder(), self.service.clips, self.logic, now,
            link=lambda clip: link_to(self.service.settings, clip, LINK_HOURS)[0],
        )  # fmt: skip

    async def working(self, request: Any) -> Any:
        """A request that waits for an answer, with somebody working meanwhile."""
        requested = asyncio.create_task(request)
        while not requested.done():
            await self.work()
            await asyncio.sleep(0.02)
        return await requested
