"""What strangers and broken programs send: refused with a reason, never with a 500; and what a
browser or a key no longer has, it no longer gets."""

import asyncio
import base64
import json
import unittest.mock

import httpx

from fond_echo.core.audio.clip import silence
from fond_echo.core.audio.containers import encode
from fond_echo.web import bodies
from tests.support.serving import served
from tests.support.web import ADMIN, WebTest

HALF = "\\ud800"
"""Half of a surrogate pair, as JSON writes it."""


class Wrong(WebTest):
    async def posted(self, path, body, client=None, **headers):
        headers = {"Content-Type": "application/json", **headers}
        client = client or self.client
        return await client.request(
            "PUT" if "put" in path else "POST",
            path.removeprefix("put "),
            content=body,
            headers=headers,
        )

    def assert_refused(self, answer, *statuses):
        self.assertIn(answer.status_code, statuses or (422,), answer.text[:300])
        self.assertEqual(answer.headers["content-type"], "application/problem+json")
        self.assertTrue(answer.json()["detail"])

    async def test_half_of_a_surrogate_pair(self):
        await self.fill()
        for path, body in (
            ("/api/assistants/check", '{"files": {"HALF": "x"}}'),
            ("/api/assistants/check", '{"files": {"assistant.yaml": "HALF"}}'),
            ("/api/subscriptions", '{"name": "x", "url": "http://aHALF.test/", "types": []}'),
            ("/api/assistants/harbour-desk/try", '{"text": "hi", "state": {"x": "HALF"}}'),
            ("/api/assistants/harbour-desk/try", '{"text": "hi", "state": {"HALF": 1}}'),
            ("/api/keys", '{"name": "HALF", "scopes": ["read"]}'),
            ("put /api/secrets/x", '{"value": "HALF"}'),
        ):
            with self.subTest(body):
                answer = await self.posted(path, body.replace("HALF", HALF).encode())
                self.assert_refused(answer)
                self.assertIn("half of a surrogate pair", answer.json()["detail"])
        raw = json.dumps(["2026-11-27T10:00:00+00:00", "\ud800"]).encode()
        after = base64.urlsafe_b64encode(raw).decode()
        self.assert_refused(await self.client.get("/api/turns", params={"cursor": after}))

    async def test_bytes_that_are_no_text(self):
        for path in ("/api/keys", "/api/assistants/check"):
            self.assert_refused(await self.posted(path, b'{"name": "\xff\xfe"}'))
        reported = (await self.client.get("/api/openapi.json")).json()
        answers = reported["paths"]["/api/keys"]["post"]["responses"]
        self.assertTrue({"408", "413", "422"} <= set(answers), sorted(answers))

    async def test_deep_bodies(self):
        await self.fill()
        deep = "[" * 900 + "]" * 900
        for path, body in (
            ("/api/assistants/harbour-desk/try", '{"text": "hi", "state": {"x": DEEP}}'),
            ("/api/assistants/check", '{"files": DEEP}'),
            ("/api/keys", "[" * 200_000),
        ):
            with self.subTest(path):
                answer = await self.posted(path, body.replace("DEEP", deep).encode())
                self.assert_refused(answer)
                self.assertIn("nested", answer.json()["detail"])

    async def test_a_range_of_endless_digits(self):
        await self.fill()
        await self.send({"posts": [self.post()]})
        (turn,) = [each["id"] for each in (await self.client.get("/api/turns")).json()["items"]]
        ref = await self.service.clips.keep(
            turn, encode(silence(0.1, 8_000), "wav"), "audio/wav", "x"
        )
        path = f"/api/clips/{ref.id}/sound"
        for given in ("9" * 4_301, "9" * 18, "١٢"):
            headers = [(b"range", f"bytes={given}-".encode())]
            answer = await self.client.get(path, headers=headers)
            self.assertIn(answer.status_code, (200, 416))

    async def test_a_body_without_end_and_one_that_does_not_come(self):
        async def endless():
            while True:
                yield b"x" * 2**20

        async def slow():
            yield b"{"
            await asyncio.sleep(3_600)
            yield b"}"

        self.assert_refused(await self.posted("/api/keys", endless(), self.nobody), 413)
        with unittest.mock.patch.object(bodies, "IDLE_SECONDS", 0.2):
            answers = await asyncio.gather(
                *(self.posted("/api/keys", slow(), self.nobody) for _ in range(20)),
                self.posted("/webhooks/skerry", slow(), self.nobody),
            )
            for answer in answers[:-1]:
                self.assert_refused(answer, 408)
            self.assertIn(answers[-1].status_code, (404, 408))


class Entering(WebTest):
    async def sign_in(self, key, **headers):
        return await self.nobody.post("/api/me", json={"key": key}, headers=headers)

    async def test_whoever_tries_keys_waits(self):
        for number in range(10):
            self.assertEqual((await self.sign_in(f"fe-wrong-{number}")).status_code, 401)
        self.assert_problem(await self.sign_in(ADMIN), 429, "too-many")
        far = httpx.ASGITransport(self.app, client=("203.0.113.9", 1))
        async with httpx.AsyncClient(transport=far, base_url="http://echo.test") as other:
            answer = await other.post("/api/me", json={"key": ADMIN})
            self.assertEqual(answer.status_code, 200)

    async def test_the_origin_is_compared_with_its_scheme(self):
        for origin, status in (
            ("http://echo.test", 200), ("https://echo.test", 403), ("http://echo.test:81", 403),
            ("http://echo.test.evil.test", 403), ("null", 403),
        ):  # fmt: skip
            answer = await self.sign_in(ADMIN, Origin=origin)
            self.assertEqual(answer.status_code, status, origin)
        # A page of ours behind a proxy that does not say how it was reached.
        with unittest.mock.patch.object(
            self.service.settings, "public_address", "https://echo.example"
        ):
            answer = await self.sign_in(ADMIN, Origin="https://echo.example")
            self.assertEqual(answer.status_code, 200)

    async def test_a_stream_ends_with_its_key_and_with_its_sign_in(self):
        address = await self.enterAsyncContext(served(self.app))
        made = (await self.client.post("/api/keys", json={"name": "r", "scopes": ["read"]})).json()
        async with httpx.AsyncClient(base_url=address, timeout=20) as browser:
            signed = await browser.post("/api/me", json={"key": ADMIN})
            form = {"X-CSRF-Token": signed.json()["csrf_token"]}

            async def follow(**headers):
                async with browser.stream("GET", "/api/events", headers=headers) as events:
                    following.release()
                    async for _ in events.aiter_lines():
                        pass

            following = asyncio.Semaphore(0)
            by_key = asyncio.create_task(follow(Authorization=f"Bearer {made['key']}"))
            by_cookie = asyncio.create_task(follow())
            await following.acquire()
            await following.acquire()
            await asyncio.sleep(1.5)
            self.assertFalse(by_key.done() or by_cookie.done())
            await self.client.delete(f"/api/keys/{made['id']}")
            await asyncio.wait_for(by_key, 10)
            self.assertFalse(by_cookie.done())
            await browser.delete("/api/me", headers=form)
            await asyncio.wait_for(by_cookie, 10)
