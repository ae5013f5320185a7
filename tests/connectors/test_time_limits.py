"""A service that sends a byte now and then: a limit of time is for the whole."""

import asyncio
import json
import time
import unittest

from fond_echo.connectors.errors import NoAnswer, Unreachable
from fond_echo.connectors.guard import guarded_client
from fond_echo.connectors.machine import RequestMachine
from fond_echo.connectors.secrets import Vault
from fond_echo.documents.steps import Step
from fond_echo.store.local import free_port


class Trickling(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        self.server = await asyncio.start_server(self.serve, "127.0.0.1", 0)
        self.addCleanup(self.server.close)
        self.port = self.server.sockets[0].getsockname()[1]
        self.before, self.slowly, self.pause = b"", b"", 0.05

    async def serve(self, reader, writer):
        await reader.readuntil(b"\r\n\r\n")
        try:
            writer.write(self.before)
            for each in self.slowly:
                writer.write(bytes([each]))
                await writer.drain()
                await asyncio.sleep(self.pause)
        except (OSError, asyncio.CancelledError):
            pass
        finally:
            writer.close()

    async def ask(self, seconds, port=0):
        place = f"127.0.0.1:{port or self.port}"
        async with guarded_client([place]) as client:
            machine = RequestMachine(client, Vault({}), {"base": f"http://{place}"})
            step = Step.model_validate(
                {"get": "{{ base }}/x", "timeout": seconds, "take": {"a": "$.a"}}
            )
            return await machine.run([step], {})

    async def late(self, seconds, what):
        begun = time.monotonic()
        with self.assertRaisesRegex(NoAnswer, what):
            await self.ask(seconds)
        # Of 2,000 bytes, one in 50 ms: all of them take 100 s.
        self.assertLess(time.monotonic() - begun, 30)

    async def test_an_answer_that_trickles(self):
        body = json.dumps({"a": "x" * 2_000}).encode()
        self.before = b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n" % len(body)
        self.slowly = body
        await self.late(0.5, "not the whole answer within 0.5 s")

    async def test_a_head_that_trickles(self):
        self.slowly = b"HTTP/1.1 200 OK\r\nX-Long: " + b"x" * 2_000
        await self.late(0.5, "no answer within 0.5 s")

    async def test_a_large_answer_may_take_longer(self):
        body = json.dumps({"a": "x" * 200_000}).encode()
        self.before = b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s" % (len(body), body[:-12])
        self.slowly = body[-12:]
        self.pause = 0.1
        self.assertEqual(len((await self.ask(1.0)).facts["a"]), 200_000)

    async def test_where_nobody_is_there_nothing_was_sent(self):
        with self.assertRaises(Unreachable):
            await self.ask(0.5, port=free_port())
