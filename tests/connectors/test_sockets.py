"""Answers that come over a WebSocket, from a real server on loopback, behind the guard."""

import json
import unittest
import unittest.mock
from ipaddress import ip_address

from websockets.asyncio.server import serve
from websockets.datastructures import Headers
from websockets.http11 import Response

from fond_echo.connectors.errors import (
    ForbiddenAddress,
    NoAnswer,
    Refused,
    Unreachable,
    WrongAnswer,
)
from fond_echo.connectors.guard import guarded_client
from fond_echo.connectors.machine import RequestMachine
from fond_echo.connectors.secrets import REDACTED, Secret, Vault
from fond_echo.documents.steps import Step


class OverSockets(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        self.asked, self.answers = [], []
        self.server = await serve(self.serve, "127.0.0.1", 0, process_request=self.knock)
        self.addAsyncCleanup(self.server.wait_closed)
        self.addCleanup(self.server.close)
        self.port = self.server.sockets[0].getsockname()[1]
        self.client = guarded_client([f"127.0.0.1:{self.port}"])
        self.addAsyncCleanup(self.client.aclose)
        self.refusal = None

    def machine(self, client=None):
        host = f"127.0.0.1:{self.port}"
        vault = Vault({"word": Secret("word", "xyzzy-9000", frozenset((host,)))})
        return RequestMachine(client or self.client, vault, {"base": f"http://{host}"})

    def knock(self, connection, request):
        self.headers = request.headers
        return self.refusal

    async def serve(self, socket):
        self.asked.append(json.loads(await socket.recv()))
        for each in self.answers:
            await socket.send(each)

    def step(self, **fields):
        given = {
            "socket": "{{ base }}/talk", "json": {"words": "{{ text }}"},
            "headers": {"Authorization": "Bearer {{ secrets.word }}"},
            "stream": {"as": "messages", "piece": "$.more", "end": "over"},
            "take": {"mark": "$.mark"}, **fields,
        }  # fmt: skip
        return Step.model_validate(given)

    async def run_step(self, **fields):
        return await self.machine().run([self.step(**fields)], {"text": "hello"})

    async def test_pieces_are_handed_on_as_they_come(self):
        self.answers = ['{"more": "Good "}', '{"more": "day."}', '{"mark": 7}', "over"]
        heard = []

        class Hears:
            async def piece(self, text):
                heard.append(text)

        found = await self.machine().run([self.step()], {"text": "hello"}, Hears())
        self.assertEqual(found.facts, {"streamed": "Good day.", "mark": 7})
        self.assertEqual((heard, self.asked), (["Good ", "day."], [{"words": "hello"}]))
        self.assertEqual(self.headers["Authorization"], "Bearer xyzzy-9000")
        exchange = found.exchanges[0]
        self.assertEqual((exchange.method, exchange.status), ("SOCKET", 101))
        self.assertEqual(exchange.received, {"documents": 3, "streamed": "Good day."})

    async def test_a_secret_that_comes_back_is_recorded_nowhere(self):
        escaped = "".join(f"\\u{ord(each):04x}" for each in "xyzzy-9000")
        self.answers = [
            '{"more": "xyzzy-9000 it is"}',
            f'{{"more": "{escaped}"}}',
            '{"mark": "xyzzy-9000"}',
            "over",
        ]
        for stream in (True, False):
            fields = {} if stream else {"stream": None, "take": {}, "bytes": True}
            found = await self.run_step(**fields)
            recorded = json.dumps([vars(each) for each in found.exchanges])
            self.assertIn(json.dumps(REDACTED)[1:-1], recorded)
            self.assertNotIn("xyzzy", recorded)
            self.assertNotIn("u0078", recorded)

    async def test_a_broken_socket_records_what_came_and_no_secret(self):
        self.answers = ['{"more": "xyzzy-9000"}', "not JSON"]
        with self.assertRaises(WrongAnswer) as raised:
            await self.run_step()
        recorded = json.dumps([vars(each) for each in raised.exception.exchanges])
        self.assertIn(json.dumps(REDACTED)[1:-1], recorded)
        self.assertNotIn("xyzzy", recorded)

    async def test_an_address_that_refuses_leaves_the_next(self):
        async def judged(host, port):
            return [ip_address("127.0.0.2"), ip_address("127.0.0.1")]

        with unittest.mock.patch.object(self.client.guard, "judged", judged):
            self.answers = ['{"more": "Here."}', '{"mark": 7}', "over"]
            self.assertEqual((await self.run_step()).facts["streamed"], "Here.")
            self.server.close()
            await self.server.wait_closed()
            with self.assertRaises(Unreachable):
                await self.run_step()

    async def test_sound_comes_in_binary_messages(self):
        self.answers = [b"RI", b"FF"]
        found = await self.run_step(stream=None, take={}, bytes=True)
        self.assertEqual(found.payload.data, b"RIFF")

    async def test_what_stops_before_its_end_is_no_answer(self):
        self.answers = ['{"more": "Good "}', '{"mark": 7}']
        with self.assertRaisesRegex(WrongAnswer, "stops before 'over'") as raised:
            await self.run_step()
        self.assertEqual(raised.exception.exchanges[0].received["streamed"], "Good ")

    async def test_what_is_no_json_or_no_text_is_refused(self):
        for message, what in (("Good day", "not JSON"), (b"\x00", "not text")):
            self.answers = [message]
            with self.subTest(what), self.assertRaisesRegex(WrongAnswer, what):
                await self.run_step()

    async def test_a_socket_that_is_not_opened(self):
        self.refusal = Response(403, "Forbidden", Headers(), b"no")
        with self.assertRaises(Refused) as raised:
            await self.run_step()
        self.assertEqual(raised.exception.status, 403)

    async def test_a_redirect_is_not_followed(self):
        elsewhere = Headers({"Location": f"ws://127.0.0.1:{self.port}/elsewhere"})
        self.refusal = Response(302, "Found", elsewhere, b"")
        with self.assertRaises(Refused) as raised:
            await self.run_step()
        self.assertEqual((raised.exception.status, self.asked), (302, []))

    async def test_the_guard_says_where_it_may_go(self):
        async with guarded_client() as client:
            with self.assertRaises(ForbiddenAddress):
                await self.machine(client).run([self.step()], {"text": "hello"})

    async def test_one_that_says_nothing_is_not_waited_for_without_end(self):
        async def silent(socket):
            await socket.recv()
            await socket.wait_closed()

        self.serve = silent
        self.server.close()
        self.server = await serve(silent, "127.0.0.1", 0)
        self.addCleanup(self.server.close)
        self.port = self.server.sockets[0].getsockname()[1]
        async with guarded_client([f"127.0.0.1:{self.port}"]) as client:
            with self.assertRaisesRegex(NoAnswer, "no message within"):
                await self.machine(client).run([self.step(timeout=0.2)], {"text": "hello"})

    def test_what_a_socket_step_may_say(self):
        for fields, what in (
            ({"stream": None, "take": {}}, "stream: {as: messages}"),
            ({"query": {"a": "b"}}, "no query"),
            ({"json": None, "form": {"a": "b"}}, "no body but json"),
        ):
            with self.subTest(what), self.assertRaisesRegex(ValueError, what):
                self.step(**fields)
        with self.assertRaisesRegex(ValueError, "is for a socket"):
            Step.model_validate(
                {"post": "{{ base }}/x", "stream": {"as": "messages", "piece": "$.more"}}
            )
