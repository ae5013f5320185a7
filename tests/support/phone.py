"""A phone channel that listens on loopback, with real records; its language is warbles, and the business
logic is in memory."""

import asyncio
from datetime import UTC, datetime
from functools import partial
from typing import ClassVar

import httpx
from sqlalchemy import select, update

from fond_echo.contract.call import CallIn
from fond_echo.contract.reply import Reply
from fond_echo.documents.call_handling import Speaking
from fond_echo.documents.phone import read_phone
from fond_echo.engines.cached import CachedSynthesizer
from fond_echo.phone.dependencies import CallDependencies
from fond_echo.phone.encoding import Encoders
from fond_echo.phone.server import PhoneServer
from fond_echo.phone.service import ServiceBackend
from fond_echo.standins.carrier.carrier import carrier
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.calls import Call
from fond_echo.store.event_records import Event
from fond_echo.store.local import free_port
from fond_echo.store.records import Channel, Turn
from tests.support.warbles import WarbleSpeech, forget, understood
from tests.support.world import TurnsTest

DESK = """\
assistant: test-desk
voice: tern
greeting: Tern Sound Ferries.
goodbye: Fair winds.
operator: One moment please.
operator_number: "+44 1632 960100"
logic:
  timetable: {url: "http://127.0.0.1:1/logic", key: {secret: timetable-mark}}
routes:
  - route: next-sailing
    examples: [When is the next boat to Pell?]
    reply: {logic: timetable.next-sailing, safe: true}
  - route: fares
    examples: [How much is a ticket?]
    key: "3"
    reply: {text: Four pounds.}
  - route: leave-word
    examples: [I want to leave a word for the crew.]
    key: "7"
    reply: {text: Please say it now., then: record, max_seconds: 20, kept: Your word is kept.}
fallback:
  reply: {text: I know about boats and fares.}
"""

PHONE = """\
phone: exchange
listen: {host: 127.0.0.1, port: %d, media: [%d, %d]}
numbers: ["2001"]
peers: [127.0.0.1]
max_calls: 2
call_handling: {wait_seconds: 2.0, greetings: 2, reminders: [Are you there?], no_input_goodbye: I hang up.}
"""

PLACING = (
    PHONE
    + """\
outbound: {via: "%s", country: "44", allowed: ["+441632960*", quay], ring_seconds: 1.5}
"""
)


class OnAPhone(TurnsTest):
    """A phone channel that listens, and is called."""

    passwords: ClassVar = {}
    speaking = Speaking("tern", "Tern Sound Ferries.")

    def connector(self, port, media):
        """The channel's own description."""
        return PHONE % (port, media, media + 9)

    async def asyncSetUp(self):
        forget()
        await super().asyncSetUp()
        await self.publish(DESK)
        self.port = port = free_port()
        text = self.connector(port, free_port())
        async with self.database.writing() as session:
            changed = update(Channel).where(Channel.name == "test-channel")
            await session.execute(changed.values(kind="phone", connector=text))
        async with self.database.reading() as session:
            channel = await session.get_one(Channel, "test-channel")
        self.world.speech = WarbleSpeech()
        self.world.logic.answer = lambda requested: Reply(text="The boat leaves at noon.")
        client = httpx.AsyncClient(trust_env=False)
        self.addAsyncCleanup(client.aclose)
        needs = CallDependencies(
            self.database, self.queue, self.world, self.world.clips, PostgresBlobs(),
            CachedSynthesizer(WarbleSpeech()), client, Encoders(),
        )  # fmt: skip
        self.backend = ServiceBackend(needs)
        self.addAsyncCleanup(self.backend.stop)
        self.backend.channels["test-channel"] = channel
        self.text = text
        self.make = partial(
            PhoneServer, "test-channel", read_phone(text, "channel.yaml"), self.backend,
            self.speaking, self.passwords,
        )  # fmt: skip
        await self.listen()

    async def listen(self):
        self.server = self.make()
        await self.server.start()
        self.addAsyncCleanup(self.stop)
        for _ in range(400):
            if self.server.prompts.ready("I hang up.", "tern", "PCMA"):
                # What is said first is ready too: it comes before.
                break
            await asyncio.sleep(0.05)

    async def stop(self):
        await self.server.stop()

    def number(self, name="2001"):
        return f"sip:{name}@127.0.0.1:{self.port}"

    async def hears(self, phone, wanted, **listening):
        """Listen until it was said: on a busy machine there may be pauses where none should be."""
        heard = []
        for _ in range(4):
            heard.append(understood(await phone.listen(**listening)))
            if wanted in " ".join(heard):
                return
        self.fail(f"{wanted!r} was not heard in {heard}")

    async def turns(self):
        async with self.database.reading() as session:
            rows = await session.execute(select(Turn).order_by(Turn.received_at))
            return [(turn.arrived_as, turn.route, turn.state) for turn in rows.scalars()]

    async def call(self, state="ended", seconds=30):
        """The latest call, once it is in a state."""
        for _ in range(seconds * 20):
            async with self.database.reading() as session:
                found = await session.scalars(
                    select(Call).order_by(Call.requested_at.desc()).limit(1)
                )
                call = found.one_or_none()
            if call is not None and call.state == state:
                return call
            await asyncio.sleep(0.05)
        self.fail(f"the call is {call and call.state}, not {state}")

    async def events(self):
        """The kinds of all events of calls, in order."""
        async with self.database.reading() as session:
            found = await session.scalars(
                select(Event).where(Event.type.like("call.%")).order_by(Event.id)
            )
            return [each.type.partition(".")[2] for each in found]


async def ask_for(test, to, **order):
    """Ask a channel for a call, and let it look for it."""
    given = {"to": to, "opening": {"text": "Your boat is off."}} | order
    wanted = CallIn.model_validate(given).model_dump(mode="json")
    async with test.database.writing() as session:
        session.add(
            Call(
                channel="test-channel", direction="out", caller="2001", number=to, state="requested",
                conversation="", order=wanted, due_at=datetime.now(UTC),
            )
        )  # fmt: skip
    await test.server.look()


class ThroughACarrier(OnAPhone):
    """A channel that also places calls, through a carrier."""

    async def asyncSetUp(self):
        numbers = {f"+44163296010{n}": "pw" for n in range(6)}
        self.carrier = await self.enterAsyncContext(
            carrier(numbers | {"exchange": "pw"}, room_names=["quay"])
        )
        self.carrier.switch.open = True
        await super().asyncSetUp()

    def connector(self, port, media):
        via = f"127.0.0.1:{self.carrier.hop.port}"
        return PLACING % (port, media, media + 19, via)

    async def place(self, to="+44 1632 960100", **order):
        """Ask for a call, and let the channel look for it."""
        await ask_for(self, to, **order)
