"""The sockets of signalling: UDP and TCP, hosts by name, streams that cannot be followed."""

import asyncio
import unittest
import unittest.mock

from fond_echo.core.telephony.sip.values import Hop
from fond_echo.phone.transport import Transport
from tests.core.telephony.test_message import FIELDS, message


class Sockets(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        self.datagrams, self.messages = asyncio.Queue(), asyncio.Queue()
        self.ours, self.port = await self.opened(self.datagrams, self.messages)

    async def opened(self, datagrams, messages):
        made = Transport(
            lambda data, hop: datagrams.put_nowait((data, hop)),
            lambda reported, hop: messages.put_nowait((reported, hop)),
        )
        port = await made.open("127.0.0.1", 0)
        self.addAsyncCleanup(made.close)
        return made, port

    async def next(self, queue):
        return await asyncio.wait_for(queue.get(), 10)

    async def test_hosts_by_address_and_by_name_and_those_that_are_none(self):
        theirs, port = await self.opened(asyncio.Queue(), asyncio.Queue())
        theirs.send(b"nobody", Hop("no-such-host.invalid", 5060))
        theirs.send(b"too far", Hop("127.0.0.1", 0))
        for host in ("127.0.0.1", "localhost"):
            theirs.send(host.encode(), Hop(host, self.port))
            data, hop = await self.next(self.datagrams)
            self.assertEqual((data, hop), (host.encode(), Hop("127.0.0.1", port)))

    async def test_any_port_is_one_that_is_free_for_both(self):
        taken = unittest.mock.Mock(side_effect=[OSError("taken"), unittest.mock.DEFAULT])
        taken.return_value = asyncio.sleep(0)
        with unittest.mock.patch("asyncio.start_server", taken):
            await self.opened(asyncio.Queue(), asyncio.Queue())
        self.assertEqual(taken.call_count, 2)
        made = Transport(print, print)
        with self.assertRaises(OSError):
            await made.open("127.0.0.1", self.port)
        self.assertFalse(made.is_open)

    async def test_a_connection_is_used_in_both_directions(self):
        back = asyncio.Queue()
        theirs, _ = await self.opened(asyncio.Queue(), back)
        there = Hop("127.0.0.1", self.port, "TCP")
        sent = message("OPTIONS sip:h SIP/2.0", FIELDS.replace("7 INVITE", "7 OPTIONS"))
        theirs.send(sent + sent, there)
        for _ in range(2):
            reported, hop = await self.next(self.messages)
            self.assertEqual((reported.method, hop.transport), ("OPTIONS", "TCP"))
        self.ours.send(sent, hop)
        reported, source = await self.next(back)
        self.assertEqual((reported.method, source), ("OPTIONS", there))
        # Where nobody listens nothing breaks.
        theirs.send(sent, Hop("127.0.0.1", 1, "TCP"))
        await asyncio.sleep(0.1)
        self.assertTrue(theirs.is_open)

    async def test_keep_alives_are_answered_and_rubbish_ends_it(self):
        reader, writer = await asyncio.open_connection("127.0.0.1", self.port)
        writer.write(b"\r\n\r\n")
        self.assertEqual(await asyncio.wait_for(reader.read(10), 10), b"\r\n")
        wrong = FIELDS.replace("7 INVITE", "seven INVITE")
        writer.write(message("INVITE sip:h SIP/2.0", wrong))
        reported = await asyncio.wait_for(reader.read(4_000), 10)
        self.assertTrue(reported.startswith(b"SIP/2.0 400 "), reported)
        self.assertEqual(await asyncio.wait_for(reader.read(10), 10), b"")
        self.assertTrue(self.messages.empty())
        writer.close()
