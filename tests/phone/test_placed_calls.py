"""Calls that a channel places through a carrier, and what comes of them."""

import asyncio
from datetime import UTC, datetime

from sqlalchemy import update

from fond_echo.core.audio.clip import join, silence
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.telephony.media.tones import beep
from fond_echo.softphone.handset import handset
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.calls import Call
from fond_echo.store.clips import stored
from tests.support.phone import ThroughACarrier
from tests.support.warbles import understood, warble


class Served:
    """A place on loopback that gives what it is asked for."""

    def __init__(self, pages):
        self.pages = pages

    async def __aenter__(self):
        self.server = await asyncio.start_server(self.answer, "127.0.0.1", 0)
        return f"http://127.0.0.1:{self.server.sockets[0].getsockname()[1]}"

    async def __aexit__(self, *_):
        self.server.close()

    async def answer(self, reader, writer):
        path = (await reader.readuntil(b"\r\n\r\n")).split()[1].decode()
        kind, data = self.pages.get(path, ("text/plain", b""))
        status = "200 OK" if path in self.pages else "404 Not Found"
        head = f"HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {len(data)}\r\n"
        writer.write(f"{head}Connection: close\r\n\r\n".encode() + data)
        await writer.drain()
        writer.close()


class Placed(ThroughACarrier):
    async def phone(self, name="+441632960100", **more):
        """A handset that the carrier knows."""
        made = await self.enterAsyncContext(handset(name, **more))
        await made.register(self.carrier.hop, "pw")
        return made

    async def test_a_person_hears_the_words_and_the_line_hangs_up(self):
        piet = await self.phone()
        await self.place(name="Piet Oduya")
        self.assertTrue(await piet.answer_or_end(10))
        await piet.say(warble("Hello?"))
        await self.hears(piet, "your boat is off")
        await asyncio.wait_for(piet.over.wait(), 10)
        call = await self.call()
        self.assertEqual((call.cause, call.by, call.answered_by), ("hung-up", "us", "person"))
        self.assertEqual([each["outcome"] for each in call.attempts], ["answered"])
        self.assertEqual(
            [each["kind"] for each in call.timeline],
            ["placed", "ringing", "answered", "answered_by", "opened", "ended"],
        )
        self.assertEqual(await self.turns(), [("text", "", "answered")])

    async def test_a_sound_and_what_an_address_gives_are_played(self):
        piet = await self.phone()
        async with self.database.writing() as session:
            data = encode(warble("The horn."), "flac")
            clip = await stored(session, PostgresBlobs(), data, "audio/flac", "opening")
        await self.place(opening={"sound": clip.id})
        self.assertTrue(await piet.answer_or_end(10))
        await piet.say(warble("Hello?"))
        await self.hears(piet, "the horn")
        await asyncio.wait_for(piet.over.wait(), 10)
        served = {
            "/words": ("text/plain", b"Your boat sails."),
            "/reply": ("application/json", b'{"text": "**Come** at noon."}'),
            "/sound": ("audio/ogg", encode(warble("The bell."), "ogg")),
        }
        async with Served(served) as address:
            for path, words in (
                ("/words", "your boat sails"), ("/reply", "come at noon"), ("/sound", "the bell"),
            ):  # fmt: skip
                await self.call()
                await self.forget()
                piet.over.clear()
                piet.answered.clear()
                await self.place(opening={"address": address + path})
                self.assertTrue(await piet.answer_or_end(10))
                await piet.say(warble("Hello?"))
                await self.hears(piet, words)
                await asyncio.wait_for(piet.over.wait(), 10)
            await self.call()
            await self.forget()
            piet.over.clear()
            piet.answered.clear()
            await self.place(opening={"address": address + "/nothing"})
            self.assertTrue(await piet.answer_or_end(10))
            await asyncio.wait_for(piet.over.wait(), 20)
            call = await self.call()
        self.assertEqual(call.cause, "failed")
        reported = [each["what"] for each in call.timeline if each["kind"] == "failed"]
        self.assertRegex(reported[0], "answered 404")

    async def test_an_assistant_talks_on(self):
        piet = await self.phone()
        opening = {"assistant": "test-desk"}
        await self.place(opening=opening, variables={"sailing": "S-7"})
        self.assertTrue(await piet.answer_or_end(10))
        await piet.say(warble("Hello?"))
        await self.hears(piet, "tern sound ferries")
        piet.press("3")
        await self.hears(piet, "four pounds")
        await piet.hang_up()
        call = await self.call()
        self.assertEqual((call.cause, call.by), ("hung-up", "them"))
        self.assertEqual(
            await self.turns(), [("joined", "", "answered"), ("key", "fares", "answered")]
        )

    async def test_outcomes(self):
        await self.phone("+441632960101", on_call="busy")
        await self.phone("+441632960102", on_call="reject")
        await self.phone("+441632960103", on_call="ring-out")
        for number, outcome in (
            ("01632 960101", "busy"), ("+441632960102", "rejected"),
            ("(01632) 960103", "no-answer"), ("+441632960105", "unreachable"),
            ("+33 1 99 00 12 34", "failed"),
        ):  # fmt: skip
            with self.subTest(number=number):
                await self.place(number)
                call = await self.call()
                self.assertEqual(call.cause, outcome)
                self.assertIsNone(call.answered_at)
                # The next one is looked for among those that came after it.
                await self.forget()

    async def forget(self):
        async with self.database.writing() as session:
            await session.execute(Call.__table__.delete())

    async def test_it_is_tried_again_by_plan(self):
        piet = await self.phone(on_call="busy")
        await self.place(retry={"times": 2, "after_seconds": 60})
        call = await self.call("requested")
        self.assertEqual([each["outcome"] for each in call.attempts], ["busy"])
        self.assertGreater(call.due_at, datetime.now(UTC))
        piet.on_call = "answer"
        piet.over.clear()
        async with self.database.writing() as session:
            await session.execute(update(Call).values(due_at=datetime.now(UTC)))
        await self.server.look()
        self.assertTrue(await piet.answer_or_end(10))
        await piet.hang_up()
        call = await self.call()
        self.assertEqual([each["outcome"] for each in call.attempts], ["busy", "answered"])

    async def test_a_call_that_is_not_wanted_any_more(self):
        await self.phone(on_call="ring-out")
        await self.place()
        call = await self.call("ringing")
        async with self.database.writing() as session:
            await session.execute(update(Call).values(ending=True))
        await self.server.look()
        call = await self.call()
        self.assertEqual((call.cause, call.by), ("cancelled", "us"))

    async def test_a_machine_is_spoken_to_after_its_beep(self):
        greeting = join([warble("You have reached Piet.")] * 6)
        sound = join(
            [silence(0.5, 8_000), at_rate(greeting, 8_000), silence(0.3, 8_000), beep(0.4, 1_000)]
        )
        await self.carrier.answers("+441632960104", "answer", says=sound)
        await self.place("+441632960104")
        machine = self.carrier.automatic["+441632960104"]
        self.assertTrue(await machine.answer_or_end(10))
        await self.hears(machine, "your boat is off", longest=30)
        self.assertEqual((await self.call()).answered_by, "machine")

    async def test_something_is_announced_in_a_room(self):
        isla, piet = await self.phone(), await self.phone("+441632960101")
        for each in (isla, piet):
            await each.dial("quay")
            self.assertTrue(each.answered.is_set())
        await self.place("quay")
        heard = await asyncio.gather(isla.listen(longest=30), piet.listen(longest=30))
        self.assertEqual([understood(each) for each in heard], ["your boat is off"] * 2)
        call = await self.call()
        self.assertEqual((call.cause, call.by, call.answered_by), ("hung-up", "us", "unknown"))
        self.assertEqual([room for room, _ in self.carrier.rooms.visits], ["quay"] * 3)
        self.assertFalse(isla.over.is_set())
