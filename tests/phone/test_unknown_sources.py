"""Those who should not be there, over sockets: floods, guesses, sound from elsewhere, and a registrar
that is away."""

import asyncio
import os
import socket
import struct
import unittest
from typing import ClassVar

from fond_echo.softphone.handset import handset
from fond_echo.store.local import free_port
from tests.support.phone import PHONE, OnAPhone
from tests.support.warbles import understood

INVITE = """\
{method} sip:2001@127.0.0.1:{port} SIP/2.0\r
Via: SIP/2.0/UDP 127.0.0.1:{mine};branch=z9hG4bK{number}\r
From: <sip:nobody@127.0.0.1>;tag={number}\r
To: <sip:2001@127.0.0.1>\r
Call-ID: flood-{number}\r
CSeq: 1 {method}\r
Contact: <sip:nobody@127.0.0.1:{mine}>\r
Max-Forwards: 70\r
Content-Length: 0\r
\r
"""


class Flooded(OnAPhone):
    def flood(self, method, count):
        """Requests as fast as they can be sent, from another address of this machine."""
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
            out.bind(("127.0.0.9", 0))
            mine = out.getsockname()[1]
            for number in range(count):
                text = INVITE.format(method=method, port=self.port, mine=mine, number=number)
                out.sendto(text.encode(), ("127.0.0.1", self.port))

    async def test_a_flood_leaves_a_call_alone(self):
        async with handset("isla") as phone:
            await phone.dial(self.number())
            await self.hears(phone, "tern sound ferries")
            await asyncio.to_thread(self.flood, "INVITE", 3_000)
            await asyncio.to_thread(self.flood, "REGISTER", 3_000)
            dropped = self.server._guard.dropped
            await asyncio.to_thread(self.flood, "BYE", 3_000)
            await asyncio.to_thread(self.flood, "INFO", 3_000)
            for _ in range(100):
                # What was sent is read as the loop comes to it; a busy machine loses much of it before.
                if self.server._guard.dropped - dropped > 20:
                    break
                await asyncio.sleep(0.05)
            self.assertGreater(self.server._guard.dropped - dropped, 20, "a BYE for no call too")
            phone.press("3")
            await self.hears(phone, "four pounds")
            await phone.hang_up()
        self.assertEqual((await self.call()).state, "ended")
        self.assertIn(("key", "fares", "answered"), await self.turns())

    async def test_what_no_record_can_hold_makes_no_call_deaf(self):
        async with handset("is%00la%07") as phone:
            await phone.dial(self.number())
            await self.hears(phone, "tern sound ferries")
            phone.press("3")
            await self.hears(phone, "four pounds")
            await phone.hang_up()
        self.assertEqual((await self.call()).caller, "isla")

    async def test_noise_on_the_line_s_port_is_nothing(self):
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
            for size in range(400):
                out.sendto(os.urandom(size), ("127.0.0.1", self.port))
        async with handset("isla") as phone:
            await phone.dial(self.number())
            await self.hears(phone, "tern sound ferries")
            await phone.hang_up()

    async def test_sound_from_elsewhere_is_not_heard(self):
        async with handset("isla") as phone:
            await phone.dial(self.number())
            await self.hears(phone, "tern sound ferries")
            (session,) = self.server.sessions.values()
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
                for number in range(200):
                    head = struct.pack(">BBHII", 0x80, 0, number, number * 160, 77)
                    out.sendto(head + b"\x00" * 160, ("127.0.0.1", session.sockets.port))
                    out.sendto(os.urandom(number), ("127.0.0.1", session.sockets.port))
                    out.sendto(os.urandom(number), ("127.0.0.1", session.sockets.port + 1))
            heard = []
            while "four pounds" not in " ".join(heard) and len(heard) < 4:
                phone.press("3")
                heard.append(understood(await phone.listen()))
            self.assertIn("four pounds", " ".join(heard))
            self.assertGreater(session.stream.unknown_source_packets, 200)
            await phone.hang_up()


class NoRegistrar(OnAPhone):
    """Its registrar is not there."""

    def connector(self, port, media):
        away = (
            'registrars: [{registrar: away, uri: "sip:127.0.0.1:%d", aor: "sip:2001@127.0.0.1",'
            " user: desk, password: {secret: away-pass}}]\n"
        )
        return PHONE % (port, media, media + 9) + away % free_port()

    passwords: ClassVar = {"away-pass": "unheard"}

    async def test_calls_come_in_all_the_same(self):
        async with handset("isla") as phone:
            await phone.dial(self.number())
            await self.hears(phone, "tern sound ferries")
            await phone.hang_up()
        state, why = self.server.registrations.standing
        self.assertIn(state, ("waiting", "not-connected"))
        self.assertIn("away", why)


if __name__ == "__main__":
    unittest.main()
