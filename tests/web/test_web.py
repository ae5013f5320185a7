"""The API over a real database; what it calls outside is a stand-in network in this process."""

import asyncio
import time
import unittest.mock
from datetime import UTC, datetime

import httpx
from sqlalchemy import func, select
from starlette.requests import HTTPConnection

from fond_echo.demo.world import files_of
from fond_echo.store.events import Cursor, StoredEvent
from fond_echo.store.keys import add_key
from fond_echo.store.records import Inbound, Turn
from fond_echo.web import turns, webhooks
from fond_echo.web.access import _is_ours
from fond_echo.web.events import is_about
from tests.support.web import ADMIN, WebTest
from tests.support.world import demo_file


class Access(WebTest):
    async def test_every_part_of_the_api_needs_a_key(self):
        for path, methods in self.app.openapi()["paths"].items():
            if not path.startswith("/api") or path == "/api/me":
                continue
            for method in methods:
                response = await self.nobody.request(
                    method, path.replace("{", "x").replace("}", "")
                )
                self.assert_problem(response, 401, "not-signed-in")

    async def test_scopes(self):
        async with self.database.writing() as session:
            await add_key(session, "reader", ["read"], "fe-reader")
        reader = self.with_key("fe-reader")
        self.assertEqual((await reader.get("/api/turns")).status_code, 200)
        response = await reader.put("/api/secrets/token", json={"value": "x"})
        self.assertIn("admin", self.assert_problem(response, 403, "not-allowed")["detail"])
        self.assert_problem(await self.with_key("fe-wrong").get("/api/turns"), 401, "not-signed-in")

    async def test_a_browser_exchanges_its_key_for_a_cookie(self):
        browser = self.with_key("")
        self.assert_problem(
            await browser.post("/api/me", json={"key": "fe-nonsense"}), 401, "not-signed-in"
        )
        entered = await browser.post("/api/me", json={"key": ADMIN})
        cookie = entered.headers["set-cookie"]
        for flag in ("HttpOnly", "SameSite=strict", "Path=/"):
            self.assertIn(flag, cookie)
        self.assertEqual((await browser.get("/api/turns")).status_code, 200)
        put = "/api/secrets/token"
        self.assert_problem(await browser.put(put, json={"value": "x"}), 403, "not-allowed")
        form = {"X-CSRF-Token": entered.json()["csrf_token"]}
        elsewhere = {**form, "Origin": "http://evil.test"}
        self.assert_problem(
            await browser.put(put, json={"value": "x"}, headers=elsewhere), 403, "not-allowed"
        )
        here = {**form, "Origin": "http://echo.test"}
        self.assertEqual(
            (await browser.put(put, json={"value": "x"}, headers=here)).status_code, 200
        )
        self.assertEqual((await browser.delete("/api/me", headers=here)).status_code, 204)
        self.assertEqual((await browser.get("/api/turns")).status_code, 401)

    async def test_a_page_of_another_site_cannot_sign_in(self):
        response = await self.nobody.post(
            "/api/me", json={"key": ADMIN}, headers={"Origin": "http://evil.test"}
        )
        self.assert_problem(response, 403, "not-allowed")

    async def test_no_origin_is_not_ours(self):
        scope = {"type": "websocket", "path": "/", "query_string": b"", "scheme": "ws",
                 "headers": [(b"host", b"echo.test")], "server": ("echo.test", 80), "app": self.app}  # fmt: skip
        self.assertEqual(self.service.settings.public_address, "")
        for origin, ours in (("", False), ("null", False), ("http://echo.test", True)):
            self.assertEqual(_is_ours(origin, HTTPConnection(scope)), ours, origin)

    async def test_secrets_are_never_given_back(self):
        await self.client.put(
            "/api/secrets/token", json={"value": "hush-hush", "hosts": ["a.example"]}
        )
        listed = await self.client.get("/api/secrets")
        self.assertEqual(listed.json()[0]["hosts"], ["a.example"])
        self.assertNotIn("hush", listed.text)
        await self.client.delete("/api/secrets/token")
        self.assertEqual((await self.client.get("/api/secrets")).json(), [])


class Building(WebTest):
    async def test_an_assistant_and_its_line(self):
        channel = await self.fill()
        self.assertEqual(
            (channel.status_code, channel.json()["state"]), (200, "connected"), channel.text
        )
        self.assertEqual(channel.json()["facts"], {"account": "bot-7"})
        self.assertEqual(self.network.state.hook.address, "http://127.0.0.1:9999/webhooks/skerry")
        (assistant,) = (await self.client.get("/api/assistants")).json()
        self.assertEqual(assistant["draft"], assistant["live"])
        again = await self.client.get("/api/assistants/harbour-desk/draft")
        self.assertIn("assistant.yaml", again.json()["files"])

    async def test_a_draft_does_not_go_live_by_itself(self):
        await self.fill()
        files = {
            name: text.replace("Maren", "Marit") for name, text in files_of("harbour-desk").items()
        }
        await self.client.put("/api/assistants/harbour-desk/draft", json={"files": files})
        (assistant,) = (await self.client.get("/api/assistants")).json()
        self.assertNotEqual(assistant["draft"], assistant["live"])

    async def test_errors_come_with_their_places(self):
        files = {
            "assistant.yaml": "assistant: harbour-desk\nvoice: whimbrell\nfallback: {reply: {text: x}}"
        }
        response = await self.client.put(
            "/api/assistants/harbour-desk/draft", json={"files": files}
        )
        (fault,) = self.assert_problem(response, 422, "file-invalid")["errors"]
        self.assertEqual((fault["line"], fault["remedy"]), (2, "did you mean whimbrel?"))
        files = files_of("harbour-desk")
        response = await self.client.put("/api/assistants/other-desk/draft", json={"files": files})
        self.assertIn(
            "harbour-desk", self.assert_problem(response, 422, "file-invalid")["errors"][0]["what"]
        )

    async def test_a_line_needs_an_assistant_that_is_live(self):
        channel = {
            "assistant": "harbour-desk",
            "connector": demo_file("skerry.yaml"),
            "values": {"base": "http://skerry.test"},
        }
        self.assert_problem(
            await self.client.put("/api/channels/skerry", json=channel), 404, "not-found"
        )
        files = files_of("harbour-desk")
        await self.client.put("/api/assistants/harbour-desk/draft", json={"files": files})
        problem = self.assert_problem(
            await self.client.put("/api/channels/skerry", json=channel), 409, "conflict"
        )
        self.assertIn("assistant publish", problem["remedy"])

    async def test_a_line_that_cannot_connect_says_why_and_is_kept(self):
        await self.fill()
        await self.client.put(
            "/api/secrets/skerry-token", json={"value": "wrong", "hosts": ["skerry.test"]}
        )
        channel = (await self.client.post("/api/channels/skerry/connect")).json()
        self.assertEqual(channel["state"], "not-connected")
        self.assertIn("401", channel["reason"])
        self.assertNotIn("wrong", channel["reason"])
        await self.client.put(
            "/api/secrets/skerry-token", json={"value": "bot-token", "hosts": ["other.test"]}
        )
        channel = (await self.client.post("/api/channels/skerry/connect")).json()
        self.assertIn("may not be sent to skerry.test:80", channel["reason"])

    async def test_what_is_not_there(self):
        for method, path in (("GET", "/api/turns/x"), ("GET", "/api/clips/x"), ("GET", "/api/clips/x/sound"),
                             ("POST", "/api/channels/none/connect"), ("POST", "/api/assistants/none/publish"),
                             ("GET", "/api/nonsense"), ("POST", "/webhooks/none")):  # fmt: skip
            self.assert_problem(await self.client.request(method, path), 404, "not-found")
        self.assert_problem(await self.client.get("/api/turns?cursor=nonsense"), 422, "cursor")
        self.assert_problem(await self.client.get("/api/turns?limit=9999"), 422, "request")
        self.assert_problem(await self.client.get("/api/events?after=nonsense"), 422, "cursor")
        none = await self.client.get("/api/events?channel=nowhere")
        self.assert_problem(none, 404, "not-found")
        at = datetime(2026, 12, 1, tzinfo=UTC)
        for type, subject, data, about in (
            ("channel.paused", "desk", {}, True), ("turn.answered", "t1", {"channel": "desk"}, True),
            ("channel.paused", "gale", {}, False), ("call.ended", "c", {"channel": "gale"}, False),
            ("assistant.drafted", "desk", {}, False),
        ):  # fmt: skip
            event = StoredEvent(Cursor(1, 1), type, subject, data, at)
            self.assertEqual(is_about(event, "desk"), about, type)


class Arriving(WebTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()

    async def count(self, record):
        async with self.database.reading() as session:
            return await session.scalar(select(func.count()).select_from(record))

    async def test_messages_are_taken_once(self):
        body = {"posts": [self.post("post-1"), self.post("post-2"), self.post("post-1")]}
        response = await self.send(body)
        self.assertEqual((response.status_code, response.json()), (202, {"new": 2}))
        self.assertEqual((await self.send(body)).json(), {"new": 0})
        self.assertEqual((await self.count(Inbound), await self.count(Turn)), (2, 2))

    async def test_characters_that_cannot_be_stored_are_replaced(self):
        response = await self.send({"posts": [self.post("post-1", words="a\0 boat \ud83d?")]})
        self.assertEqual((response.status_code, response.json()), (202, {"new": 1}))
        (turn,) = (await self.client.get("/api/turns")).json()["items"]
        self.assertEqual(turn["text"], "a\ufffd boat ??")

    async def test_our_own_posts_that_come_back_are_passed_over(self):
        ours = self.post("post-1", sender={"id": "bot-7", "name": "Desk", "automated": True})
        response = await self.send({"posts": [ours]})
        self.assertEqual((response.status_code, response.json()), (202, {"new": 0}))

    async def test_forged_replayed_and_malformed(self):
        good = {"posts": [self.post()]}
        self.assert_problem(await self.send(good, mark="guess"), 401, "webhook-forged")
        self.assert_problem(await self.send(good, at=time.time() - 900), 401, "webhook-forged")
        self.assert_problem(
            await self.nobody.post("/webhooks/skerry", json=good), 401, "webhook-forged"
        )
        self.assert_problem(await self.send(b"not json"), 422, "message-not-json")
        self.assert_problem(await self.send(b"[" * 100_000), 422, "message-not-json")
        answer = await self.send({"posts": [{"words": "who am I"}]})
        self.assertEqual((answer.status_code, answer.json()), (202, {"new": 0}))
        (kept,) = (await self.client.get("/api/channels/skerry/unreadable")).json()
        self.assertEqual(kept["payload"]["words"], "who am I")
        self.assertIn("id", kept["reason"])
        self.assertEqual((await self.send({"other": 1})).json(), {"new": 0})
        self.assertEqual((await self.send([1, 2])).json(), {"new": 0})
        self.assertEqual(await self.count(Turn), 0)

    async def test_more_than_is_read(self):
        most, webhooks.MAX_BODY = webhooks.MAX_BODY, 1_000
        self.addCleanup(setattr, webhooks, "MAX_BODY", most)
        self.assert_problem(await self.send(b"x" * 1_001), 413, "too-large")

        async def endless():
            while True:
                yield b"x" * 500

        response = await self.nobody.post("/webhooks/skerry", content=endless())
        self.assert_problem(response, 413, "too-large")
        announced = {"Content-Length": str(2 * 2**30)}
        response = await self.nobody.post("/webhooks/skerry", content=b"x", headers=announced)
        self.assert_problem(response, 413, "too-large")

    async def test_commands_and_sound(self):
        sound = {"handle": "snd-1", "as": "file", "length": 2.5}
        await self.send(
            {"posts": [self.post("p1", words="!today"), self.post("p2", words=None, sound=sound)]}
        )
        async with self.database.reading() as session:
            rows = (
                (await session.execute(select(Inbound.message).order_by(Inbound.received_at)))
                .scalars()
                .all()
            )
        self.assertEqual((rows[0]["text"], rows[0]["command"]), ("today", True))
        self.assertEqual(rows[1]["sound"], {"handle": "snd-1", "kind": "file", "seconds": 2.5})

    async def test_the_log_lists_what_came(self):
        for number in range(5):
            await self.send({"posts": [self.post(f"p{number}", words=f"boat {number}")]})
        (conversation,) = (await self.client.get("/api/conversations")).json()["items"]
        self.assertEqual((conversation["turns"], conversation["last_text"]), (5, "boat 4"))
        for id in (conversation["id"], conversation["id"][-12:]):
            one = (await self.client.get(f"/api/conversations/{id}")).json()
            self.assertEqual(one, conversation)
        missing = await self.client.get("/api/conversations/nobody")
        self.assertEqual(missing.status_code, 404)
        self.assertIn("no conversation nobody", missing.json()["detail"])
        seen, after = [], ""
        while True:
            query = {"conversation": conversation["id"], "limit": 2, "cursor": after}
            page = (await self.client.get("/api/turns", params=query)).json()
            seen += [turn["text"] for turn in page["items"]]
            after = page["next"]
            if not after:
                break
        self.assertEqual(seen, [f"boat {number}" for number in (4, 3, 2, 1, 0)])

    async def test_turns_are_found_by_their_words_however_many_have_them(self):
        for number, words in enumerate(("red", "red", "blue", "red", "blue", "blue")):
            await self.send({"posts": [self.post(f"p{number}", words=f"{words} boat {number}")]})
        for latest, few, more in ((500, 2_000, 10_000), (1, 9, 1), (1, 1, 9), (1, 1, 1)):
            with unittest.mock.patch.multiple(turns, LATEST=latest, FEW=few, MORE=more):
                for words, expected in (("BOAT", 6), ("red boat", 3), ("boats", 0)):
                    found, after = [], ""
                    while not found or after:
                        query = {"text": words, "limit": 2, "cursor": after, "channel": "skerry"}
                        page = (await self.client.get("/api/turns", params=query)).json()
                        found += [turn["text"] for turn in page["items"]]
                        if not (after := page["next"]):
                            break
                    with self.subTest(words=words, latest=latest, few=few, more=more):
                        self.assertEqual(len(found), expected)
                        self.assertEqual(found, sorted(found, key=lambda text: -int(text[-1])))

    async def test_a_text_of_very_many_words_is_kept_and_found_by_its_first(self):
        words = " ".join(f"boat{number}" for number in range(300_000))
        response = await self.send({"posts": [self.post(words=words)]})
        self.assertEqual((response.status_code, response.json()), (202, {"new": 1}))
        for word, count in (("boat7", 1), ("boat299999", 0)):
            found = (await self.client.get("/api/turns", params={"text": word})).json()["items"]
            self.assertEqual(len(found), count, word)

    async def test_an_unverified_webhook_is_taken_from_loopback_only(self):
        text = demo_file("skerry.yaml")
        start, end = text.index("    verify:"), text.index("  connect:")
        open_text = text[:start].rstrip().removesuffix("webhook:") + "webhook: {}\n" + text[end:]
        channel = {
            "assistant": "harbour-desk",
            "connector": open_text,
            "values": {"base": "http://skerry.test"},
        }
        self.assertEqual(
            (await self.client.put("/api/channels/skerry", json=channel)).status_code, 200
        )
        self.assertEqual(
            (await self.nobody.post("/webhooks/skerry", json={"posts": [self.post()]})).status_code,
            202,
        )
        far = httpx.ASGITransport(self.app, client=("203.0.113.9", 1))
        async with httpx.AsyncClient(transport=far, base_url="http://echo.test") as stranger:
            self.assert_problem(
                await stranger.post("/webhooks/skerry", json={"posts": [self.post("p2")]}),
                401,
                "webhook-forged",
            )


class Sounding(WebTest):
    async def test_ranges(self):
        await self.fill()
        await self.send({"posts": [self.post()]})
        (turn,) = [each["id"] for each in (await self.client.get("/api/turns")).json()["items"]]
        ref = await self.service.clips.keep(turn, bytes(range(100)), "audio/ogg", "fetched")
        path = f"/api/clips/{ref.id}/sound"
        whole = await self.client.get(path)
        self.assertEqual(
            (whole.content, whole.headers["accept-ranges"]), (bytes(range(100)), "bytes")
        )
        for requested, status, first, last in (
            ("bytes=0-9", 206, 0, 9), ("bytes=90-", 206, 90, 99), ("bytes=-5", 206, 95, 99),
            ("bytes=50-500", 206, 50, 99), ("nonsense", 200, 0, 99),
        ):  # fmt: skip
            response = await self.client.get(path, headers={"Range": requested})
            self.assertEqual(response.status_code, status, requested)
            self.assertEqual(response.content, bytes(range(first, last + 1)))
        self.assertEqual(
            (await self.client.get(path, headers={"Range": "bytes=200-"})).status_code, 416
        )

    async def test_the_console_has_a_policy_with_a_new_nonce(self):
        pages = [await self.nobody.get(path) for path in ("/", "/conversations/x/y")]
        if pages[0].status_code == 503:
            self.skipTest("the console is not built")
        policies = [page.headers["content-security-policy"] for page in pages]
        self.assertNotEqual(*policies)
        for page in pages:
            self.assertNotIn("@@nonce@@", page.text)
            nonce = page.text.partition('nonce="')[2].partition('"')[0]
            self.assertIn(f"'nonce-{nonce}'", page.headers["content-security-policy"])

    async def test_health(self):
        reported = (await self.nobody.get("/health")).json()
        ready = {each["name"]: each["ready"] for each in reported["dependencies"]}
        self.assertEqual((reported["alive"], reported["ready"]), (True, False))
        self.assertEqual(ready, {"database": True, "work": False, "speech": False})
        self.assertEqual((await self.nobody.get("/health/ready")).status_code, 503)

    async def test_metrics(self):
        await self.nobody.post("/webhooks/none", content=b"{}")
        self.assertEqual((await self.nobody.get("/metrics")).status_code, 401)
        text = (await self.client.get("/metrics")).text
        self.assertIn("# TYPE fond_echo_turns gauge", text)
        self.assertRegex(text, r"fond_echo_webhook_seconds_count \d")


class Following(WebTest):
    async def test_events_in_their_envelopes(self):
        from fond_echo.store.events import present
        from fond_echo.store.keys import bearer_of
        from fond_echo.web.events import envelope

        async with self.database.writing() as session:
            start = await present(session)
            me = await bearer_of(session, ADMIN)
        await self.fill()
        found = []
        async with asyncio.timeout(20):
            async for event in self.service.feed.follow(start, me):
                found.append(envelope(event, self.service))
                if len(found) == 4:
                    break
        self.assertEqual([each.type for each in found],
                         ["fond-echo.assistant.drafted", "fond-echo.assistant.published",
                          "fond-echo.channel.changed", "fond-echo.channel.connected"])  # fmt: skip
        self.assertEqual({each.specversion for each in found}, {"1.0"})
        self.assertEqual(len({each.id for each in found}), 4)
