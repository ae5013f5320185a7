import json
import runpy
import time
import unittest
from pathlib import Path

import httpx

from fond_echo.client import AsyncFondEcho, FondEcho, Refused, Unreachable, calls
from fond_echo.connectors.errors import LogicFailed
from fond_echo.connectors.logic import LogicCaller
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.contract.logic import LogicContact, LogicConversation, LogicRequest, LogicTurn
from fond_echo.contract.reply import Reply
from fond_echo.contract.signatures import signed_headers
from fond_echo.demo.timetable import logic as timetable
from fond_echo.demo.timetable.sailings import TIMETABLE, next_sailing, weather_hold
from fond_echo.documents.services import LogicService
from fond_echo.logic import Logic, UnknownAction


def requested(text="Next boat to Pell", action="next-sailing", **fields):
    return LogicRequest(
        action=action, route=action, assistant="harbour-desk", now="2026-11-25T09:00:00+00:00",
        turn=LogicTurn(id="t1", text=text), contact=LogicContact(id="c1", channel="skerry"),
        conversation=LogicConversation(id="v1", turns=1), **fields,
    )  # fmt: skip


class Serving(unittest.IsolatedAsyncioTestCase):
    def setUp(self):
        self.calls = 0
        self.app = Logic(secrets=["new", "old"])

        @self.app.answers("greet")
        async def greet(request):
            self.calls += 1
            return f"Hello, {request.turn.text}"

        @self.app.answers("break")
        async def break_down(request):
            raise RuntimeError("hidden detail")

        self.client = httpx.AsyncClient(
            transport=httpx.ASGITransport(self.app), base_url="http://logic.test"
        )

    async def post(self, request, secret="new", id="m1", **changes):
        body = request.model_dump_json().encode()
        headers = {**signed_headers(secret, id, int(time.time()), body), **changes}
        return await self.client.post("/logic", content=body, headers=headers)

    async def test_answers_signed_questions_with_either_secret(self):
        for secret in ("new", "old"):
            response = await self.post(requested("Isla", "greet"), secret, id=secret)
            self.assertEqual(Reply.model_validate_json(response.content).text, "Hello, Isla")

    async def test_a_question_that_comes_again_gets_the_same_answer(self):
        first, second = [await self.post(requested("Isla", "greet")) for _ in range(2)]
        self.assertEqual((first.content, self.calls), (second.content, 1))

    async def test_refusals(self):
        with self.assertLogs("fond_echo.logic", "ERROR"):
            broken = await self.post(requested("x", "break"))
        cases = (
            (await self.post(requested("x", "greet"), "wrong"), 401, "no signature fits"),
            (await self.client.post("/logic", content=b"{}"), 401, "webhook-id is missing"),
            (await self.post(requested("x", "unknown")), 404, "known: break, greet"),
            (broken, 500, "the log says why"),
            (await self.client.put("/logic"), 405, "POST"),
            (await self.client.post("/logic", content=b"x" * 2_000_001), 413, "bytes"),
        )
        for response, status, words in cases:
            self.assertEqual(response.status_code, status)
            self.assertIn(words, response.json()["problem"])
            self.assertNotIn("hidden", response.text)

    async def test_functions_can_be_called_without_http(self):
        self.assertEqual((await self.app.ask("greet", "Piet")).text, "Hello, Piet")
        with self.assertRaises(UnknownAction):
            await self.app.ask("nothing")

    def test_a_secret_is_needed(self):
        for secrets in ([], [""]):
            with self.assertRaises(ValueError):
                Logic(secrets=secrets)


class Asking(unittest.IsolatedAsyncioTestCase):
    """The caller in the service against the helper of the client library."""

    async def ask(self, answer, hosts=("logic.test",), secret="s", seconds=8.0):
        service = LogicService(
            url="http://logic.test/logic", key={"secret": "mark"}, timeout=seconds
        )
        vault = Vault({"mark": Secret("mark", secret, frozenset(hosts))})
        transport = (
            answer if isinstance(answer, httpx.AsyncBaseTransport) else httpx.MockTransport(answer)
        )
        caller = LogicCaller(httpx.AsyncClient(transport=transport), vault)
        return [part async for part in caller.ask(service, requested())]

    async def test_both_sides_fit(self):
        app = Logic(secrets=["s"])

        @app.answers("next-sailing")
        async def next_sailing(request):
            return Reply(text=request.turn.text, remember={"channel": request.contact.channel})

        (reply,) = await self.ask(httpx.ASGITransport(app))
        self.assertEqual((reply.text, reply.remember), ("Next boat to Pell", {"channel": "skerry"}))
        with self.assertRaisesRegex(LogicFailed, "401"):
            await self.ask(httpx.ASGITransport(app), secret="other")

    async def test_whatever_comes_back_is_a_reply_or_a_typed_error(self):
        def slow(request):
            raise httpx.ReadTimeout("slow")

        def gone(request):
            raise httpx.ConnectError("refused")

        def answers(status, content):
            return lambda request: httpx.Response(status, content=content)

        for answer, words in (
            (answers(200, b""), "not a reply"),
            (answers(200, b"<html>"), "not a reply"),
            (answers(200, b"{}"), "needs text"),
            (answers(200, b'{"txt": "x"}'), "txt"),
            (answers(200, b'"' + b"x" * 2_000_000), "over 1,000,000 bytes"),
            (answers(500, b"oh"), "answered 500: oh"),
            (answers(302, b""), "answered 302"),
            (slow, "no answer within 8 s"),
            (gone, "cannot be reached"),
        ):
            with self.assertRaisesRegex(LogicFailed, words):
                await self.ask(answer)

    async def test_a_secret_bound_elsewhere_is_not_used(self):
        def never(request):
            raise AssertionError("it was sent")

        with self.assertRaisesRegex(LogicFailed, "may not be sent"):
            await self.ask(never, hosts=("other.test",))


class Timetable(unittest.IsolatedAsyncioTestCase):
    async def test_next_boat(self):
        reply = await timetable.app.ask(
            "next-sailing", slots={"island": "Little Marrow"}, now="2026-11-25T09:00:00+00:00"
        )
        self.assertEqual(
            reply.text, "The next boat to Little Marrow leaves at 12:00, the Old Dunlin."
        )
        self.assertEqual(reply.remember, {"island": "Little Marrow"})
        at_night = {"slots": {"island": "Pell"}, "now": "2026-11-25T23:00:00+00:00"}
        late = await timetable.app.ask("next-sailing", **at_night)
        self.assertIn("tomorrow at 06:50", late.text)

    async def test_bookings(self):
        slots = {"island": "Pell", "day": "2026-11-27", "places": 2}
        booked = await timetable.app.ask("book-bicycle", slots=slots)
        self.assertRegex(booked.text, r"2 bicycle places to Pell on Friday\. .* is P\w+\.")
        self.assertEqual(booked.remember_days, 30)
        moved = await timetable.app.ask("move-booking", slots={"day": "2026-11-28"})
        self.assertIn("Saturday", moved.text)
        for action in ("keep-booking", "cancel-booking"):
            self.assertEqual((await timetable.app.ask(action)).then.kind, "end")

    async def test_without_an_island_a_question(self):
        asking = await timetable.app.ask("next-sailing", "next boat")
        self.assertEqual(len(asking.choices), 4)

    async def test_the_other_questions(self):
        evening = {"now": "2026-11-25T22:10:00+00:00"}
        reply = await timetable.app.ask("sailings-today", **evening)
        self.assertEqual(reply.text, "Still to sail today:\n- 22:15 Ossel (Petrel)")
        self.assertIn(
            "no more boats",
            (await timetable.app.ask("sailings-today", now="2026-11-25T23:10:00+00:00")).text,
        )
        answers = {
            (await timetable.app.ask("weather-hold", now=f"2026-01-{day:02}T09:00:00+00:00")).text
            for day in range(1, 12)
        }
        self.assertEqual(len(answers), 2)

    def test_the_table(self):
        from datetime import datetime

        for island in {each.island for each in TIMETABLE}:
            times = [each.at for each in TIMETABLE if each.island == island]
            self.assertEqual(times, sorted(times))
        self.assertEqual(next_sailing("Pell", datetime(2026, 1, 1, 6, 50))[0].at.hour, 10)
        self.assertTrue(weather_hold(datetime(2026, 1, 10)))


class Client(unittest.IsolatedAsyncioTestCase):
    def problem(self, request):
        body = {
            "type": "x",
            "title": "t",
            "status": 422,
            "detail": "one is wrong",
            "remedy": "do this",
        }
        return httpx.Response(422, json=body)

    def client(self, answer):
        echo = FondEcho("http://echo.test", "fe-key")
        echo._client = httpx.Client(
            transport=httpx.MockTransport(answer), base_url="http://echo.test"
        )
        return echo

    def test_problems_and_silence(self):
        with (
            self.assertRaisesRegex(Refused, r"one is wrong \(do this\)"),
            self.client(self.problem) as echo,
        ):
            echo.me()
        with self.assertRaisesRegex(Refused, "answered 502"):
            self.client(lambda request: httpx.Response(502, text="<html>")).channels()
        with (
            FondEcho("http://127.0.0.1:1", "k") as echo,
            self.assertRaisesRegex(Unreachable, "is it running"),
        ):
            echo.me()

    def test_every_call_goes_where_it_should(self):
        seen = []

        def answer(request):
            seen.append((request.method, request.url.path, request.url.params.get("limit")))
            return httpx.Response(200, json={"items": [], "next": ""})

        self.client(answer).turns(channel="skerry", limit=7)
        self.assertEqual(seen, [("GET", "/api/turns", "7")])

    async def test_both_clients_have_every_call(self):
        names = {name for name in vars(calls) if callable(getattr(calls, name)) and name.islower()
                 and getattr(calls, name).__module__ == calls.__name__ and not name.startswith("_")} - {"unreachable"}  # fmt: skip
        for client in (FondEcho, AsyncFondEcho):
            self.assertLessEqual(names, set(dir(client)))

    async def test_the_asynchronous_one(self):
        async with AsyncFondEcho("http://echo.test", "k") as echo:
            answer = {"name": "n", "scopes": ["read"], "version": "1"}
            echo._client = httpx.AsyncClient(
                transport=httpx.MockTransport(
                    lambda request: httpx.Response(200, content=json.dumps(answer))
                ),
                base_url="http://echo.test",
            )
            self.assertEqual((await echo.me()).name, "n")


class OneSource(unittest.TestCase):
    def test_the_synchronous_client_is_made_of_the_asynchronous_one(self):
        script = runpy.run_path(str(Path(__file__).parents[2] / "script" / "clients.py"))
        made = script["made"]()
        self.assertGreater(len(made), 2)
        for file, text in made.items():
            self.assertEqual(file.read_text("utf-8"), text, "run python script/clients.py")
