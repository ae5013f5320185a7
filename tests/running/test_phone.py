"""The phone channels of an installation, as its phone process sees them."""

import asyncio
import socket
import unittest
from dataclasses import replace

from sqlalchemy import select, update

from fond_echo.documents.digest import digest
from fond_echo.phone.roles import ChannelState
from fond_echo.running.phone import Phones
from fond_echo.store.local import free_port
from fond_echo.store.records import Assistant, Channel, Contact, Revision
from tests.support.world import TurnsTest

DESCRIPTION = (
    "phone: desk\nlisten: {host: 127.0.0.1, port: %d, media: [%d, %d]}\npeers: [127.0.0.1]\n"
)


class Media:
    """A media process that has sockets, and no calls."""

    def __init__(self):
        self.sockets, self.looks = {}, 0

    async def open(self, name, connector, speaking, passwords):
        port = int(connector.split("port: ")[1].split(",")[0])
        own = socket.socket(type=socket.SOCK_DGRAM)
        try:
            own.bind(("127.0.0.1", port))
        except OSError:
            own.close()
            raise
        self.sockets[name] = own
        self.speaking = speaking

    async def speak_as(self, name, speaking):
        self.speaking = speaking

    async def close(self, name):
        self.sockets.pop(name).close()

    async def look(self, name):
        self.looks += 1
        return ChannelState("open", "", [], {})


class Backend:
    def __init__(self):
        self.channels = {}


class Ports(TurnsTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.port = free_port()
        async with self.database.writing() as session:
            changed = update(Channel).where(Channel.name == "test-channel")
            await session.execute(changed.values(kind="phone", connector=self.described()))
        self.media = Media()
        self.addCleanup(lambda: [each.close() for each in self.media.sockets.values()])
        self.phones = Phones(self.database, Backend(), self.media, self)

    async def vault(self):
        return {}

    def described(self):
        media = free_port()
        return DESCRIPTION % (self.port, media, media + 9)

    async def standing(self, name):
        await self.phones.look()
        async with self.database.reading() as session:
            found = await session.execute(
                select(Channel.state, Channel.reason).where(Channel.name == name)
            )
            return found.one()

    async def test_a_second_channel_on_a_port_is_told_which_one_has_it(self):
        self.assertEqual(await self.standing("test-channel"), ("open", ""))
        async with self.database.writing() as session:
            first = await session.get_one(Channel, "test-channel")
            session.add(
                Channel(
                    name="zz-other", kind="phone", assistant=first.assistant, state="", reason="",
                    connector=self.described(), values={}, settings={}, facts={},
                )
            )  # fmt: skip
        state, why = await self.standing("zz-other")
        self.assertEqual(state, "not-connected")
        self.assertIn(f"the channel test-channel listens on port {self.port}", why)
        # It listens as soon as the other one has moved.
        async with self.database.writing() as session:
            self.port = free_port()
            changed = update(Channel).where(Channel.name == "test-channel")
            await session.execute(changed.values(connector=self.described()))
        await self.phones.look()
        self.assertEqual(await self.standing("zz-other"), ("open", ""))

    async def test_another_program_on_the_port_is_named_as_such(self):
        with socket.socket(type=socket.SOCK_DGRAM) as other:
            other.bind(("127.0.0.1", self.port))
            state, why = await self.standing("test-channel")
        self.assertEqual(state, "not-connected")
        self.assertIn("another program listens on 127.0.0.1", why)
        self.assertEqual(await self.standing("test-channel"), ("open", ""))

    async def test_a_tester_is_greeted_by_the_draft_as_it_is_now(self):
        await self.phones.look()
        self.assertEqual(self.media.speaking.testers, {})
        live = self.media.speaking.to("2001", "0163296")
        for greeting in ("A draft.", "Another draft."):
            files = {"assistant.yaml": self.assistant + f"\ngreeting: {greeting}\n"}
            async with self.database.writing() as session:
                session.add(Revision(digest=digest(files), assistant="test-desk", files=files))
                await session.flush()
                desk = await session.get_one(Assistant, "test-desk")
                desk.draft = digest(files)
                tester = Contact(
                    id="c1", channel="test-channel", external_id="0163296", tester=True
                )
                await session.merge(tester)
            await self.phones.look()
            speaking = self.media.speaking
            self.assertEqual(speaking.to("2001", "0163296").greeting, greeting)
            self.assertEqual(
                speaking.to("2001", "0163297"), replace(live, testers=speaking.testers)
            )
            self.assertEqual(len(speaking.everyone()), 2)

    async def test_a_channel_that_is_gone_is_closed(self):
        await self.phones.look()
        async with self.database.writing() as session:
            await session.execute(
                update(Channel).where(Channel.name == "test-channel").values(kind="http")
            )
        await self.phones.look()
        self.assertEqual(self.media.sockets, {})
        await asyncio.sleep(0)


if __name__ == "__main__":
    unittest.main()
