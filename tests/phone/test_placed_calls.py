"""Calls that a channel places through a carrier, and what comes of them."""

import asyncio
import contextlib
import io
import unittest.mock
from datetime import UTC, datetime

import av
import numpy as np
from sqlalchemy import func, select, update
from sqlalchemy.exc import OperationalError

from fond_echo.core.audio.clip import Clip, join, silence
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.telephony.media.tones import beep
from fond_echo.core.telephony.sip.values import parse_uri
from fond_echo.phone import turns
from fond_echo.phone.call_log import CallLog
from fond_echo.records.journal import Journal
from fond_echo.softphone.handset import handset
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.calls import Call, RecordingPage
from fond_echo.store.clips import ClipStore, stored
from fond_echo.store.event_records import Event
from tests.sounds import speech
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

    async def test_a_machine_that_greets_late_is_spoken_to_after_its_beep_too(self):
        greeting = "You have reached Piet. I cannot come to the telephone now, so leave a message."
        said = at_rate(speech(greeting, "petrel"), 8_000)
        sound = join([silence(1.8, 8_000), said, silence(0.3, 8_000), beep(0.4, 1_000)])
        await self.carrier.answers("+441632960104", "answer", says=sound)
        await self.place("+441632960104")
        machine = self.carrier.automatic["+441632960104"]
        self.assertTrue(await machine.answer_or_end(10))
        call = await self.call()
        self.assertEqual((call.answered_by, call.cause, call.by), ("machine", "hung-up", "us"))
        async with self.database.reading() as session:
            told = (
                await session.scalars(select(Event).where(Event.type.like("%answered_by")))
            ).all()
        self.assertEqual([each.data["who"] for each in told], ["unknown", "machine"])

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


class Connected(ThroughACarrier):
    """What happens to callers: transfer, messages, recording."""

    def connector(self, port, media):
        text = super().connector(port, media)
        return text.replace(
            "call_handling: {",
            "call_handling: {record: true, not_connected: Nobody answers there just now., ",
        )

    async def phones(self, *names):
        """Handsets, and our channel, by their numbers at the carrier."""
        self.carrier.switch.fixed["2001"] = parse_uri(self.number())
        made = []
        for name in names:
            each = await self.enterAsyncContext(handset(name))
            await each.register(self.carrier.hop, "pw")
            made.append(each)
        return made

    async def test_a_caller_who_asks_for_a_person_is_connected(self):
        isla, maren = await self.phones("+441632960102", "+441632960100")
        await isla.dial("2001")
        await self.hears(isla, "tern sound ferries", quiet=1.5)
        await isla.say(warble("I want to speak to a person."))
        await self.hears(isla, "one moment please")
        self.assertTrue(await maren.answer_or_end(10))
        call = await self.call()
        self.assertEqual((call.cause, call.by), ("transferred", "us"))
        await asyncio.sleep(0.3)
        said = maren.say(warble("Four pounds."))
        heard, _ = await asyncio.gather(isla.listen(), said)
        self.assertEqual(understood(heard), "four pounds")

    async def test_a_transfer_of_which_nothing_is_heard_ends_in_time(self):
        """The other side took the REFER and never tells what became of it."""
        (isla,) = await self.phones("+441632960102")

        async def say_nothing(call, to):
            isla.transferred_to = to

        isla._transferred = say_nothing
        with unittest.mock.patch(
            "fond_echo.core.telephony.conversation.course.UNTOLD_SECONDS", 1.0
        ):
            await isla.dial("2001")
            await isla.listen(quiet=1.5)
            await isla.say(warble("I want to speak to a person."))
            await self.hears(isla, "nobody answers there just now")
            isla.press("3")
            await self.hears(isla, "four pounds")
        await isla.hang_up()
        call = await self.call()
        (reported,) = [each for each in call.timeline if each["kind"] == "transferred"]
        self.assertEqual(reported["status"], 408)

    async def test_an_end_that_the_database_misses_is_written_down_later(self):
        (isla,) = await self.phones("+441632960102")
        away = [OperationalError("", {}, Exception("shutting down"))] * 2
        calls = self.backend.log("test-channel")
        end = calls._end

        async def failing(*arguments):
            if away:
                raise away.pop()
            return await end(*arguments)

        calls._end = failing
        await isla.dial("2001")
        await isla.listen(quiet=1.5)
        await isla.hang_up()
        call = await self.call()
        self.assertEqual((call.state, call.by, away), ("ended", "them", []))

    async def test_a_database_that_goes_away_in_a_turn_does_not_silence_the_call(self):
        (isla,) = await self.phones("+441632960102")
        await isla.dial("2001")
        await isla.listen(quiet=1.5)
        gone = OperationalError("", {}, Exception("terminating connection"))
        finish, ends = Journal.finish, [gone]
        take, takes = turns.take_in, [gone]

        async def ended(*arguments):
            if ends:
                raise ends.pop()
            await finish(*arguments)

        async def taken(*arguments, **more):
            if takes:
                raise takes.pop()
            found = await take(*arguments, **more)
            told[:] = untold
            return found

        writing, untold, told = CallLog.writing, [], []

        @contextlib.asynccontextmanager
        async def written(*arguments):
            async with writing(*arguments) as session:
                yield session
            if told:
                # It is kept, and nobody hears that it is.
                untold.clear()
                raise told.pop()

        with (
            unittest.mock.patch.object(Journal, "finish", ended),
            unittest.mock.patch.object(turns, "take_in", taken),
            unittest.mock.patch.object(CallLog, "writing", written),
        ):
            for _ in range(2):
                isla.press("3")
                await self.hears(isla, "four pounds")
            untold.append(gone)
            isla.press("3")
            await self.hears(isla, "four pounds")
        await isla.hang_up()
        await self.call()
        self.assertEqual((ends, takes, untold), ([], [], []))
        self.assertEqual((await self.turns())[1:], [("key", "fares", "answered")] * 3)

    async def test_where_nobody_answers_the_assistant_goes_on(self):
        isla, maren = await self.phones("+441632960102", "+441632960100")
        maren.on_call, maren.after = "busy", 2.0
        await isla.dial("2001")
        await isla.listen(quiet=1.5)
        await isla.say(warble("I want to speak to a person."))
        await self.hears(isla, "one moment please")
        await self.hears(isla, "nobody answers there just now")
        isla.press("3")
        await self.hears(isla, "four pounds")
        await isla.hang_up()
        self.assertEqual((await self.call()).by, "them")

    async def test_a_message_is_recorded_and_so_is_the_call(self):
        (isla,) = await self.phones("+441632960102")
        await isla.dial("2001")
        await self.hears(isla, "this call is recorded tern sound ferries", quiet=1.5)
        isla.press("7")
        await self.hears(isla, "please say it now")
        await self.until_a_message_is_taken()
        await isla.say(warble("The rope at the pier is loose."))
        # Longer than the pause that ends what is asked, shorter than one in a message.
        await asyncio.sleep(0.9)
        await isla.say(warble("Please have a look at it."))
        isla.press("#")
        await self.hears(isla, "your word is kept")
        await isla.hold()
        self.assertEqual(self.stream().agreed.direction, "recvonly")
        await isla.resume()
        self.assertEqual(self.stream().agreed.direction, "sendrecv")
        await isla.hang_up()
        call = await self.call()
        self.assertEqual(
            [each["kind"] for each in call.timeline if each["kind"] not in ("barge-in", "changed")],
            ["ringing", "answered", "greeted", "key", "said", "recorded", "ended"],
        )
        turns = await self.turns()
        self.assertEqual(
            turns[1:], [("key", "leave-word", "answered"), ("speech", "leave-word", "answered")]
        )
        clips = ClipStore(self.database)
        found = av.open(io.BytesIO(await clips.load(call.recording_id)))
        sound = np.concatenate([each.to_ndarray() for each in found.decode(audio=0)], axis=1)
        self.assertEqual(sound.shape[0], 2)
        length = (call.ended_at - call.answered_at).total_seconds()
        self.assertAlmostEqual(sound.shape[1] / 48_000, length, delta=2.0)
        theirs, ours = (Clip(np.ascontiguousarray(each, np.float32), 48_000) for each in sound)
        self.assertIn("this call is recorded tern sound ferries", understood(ours))
        self.assertNotIn("recorded", understood(theirs))
        self.assertGreater(float(np.abs(theirs.samples).max()), 0.05)

    async def until_a_message_is_taken(self):
        (session,) = self.server.sessions.values()
        for _ in range(1000):
            if session.course._taking._message:
                return
            await asyncio.sleep(0.02)
        self.fail("no message is taken")

    def stream(self):
        (session,) = self.server.sessions.values()
        return session.stream

    async def test_a_killed_process_leaves_nobody_on_the_line(self):
        (isla,) = await self.phones("+441632960102")
        await isla.dial("2001")
        await isla.listen()
        call = await self.call("answered")
        await self.until_some_is_kept(call)
        await self.kill()
        self.server = self.make()
        await self.server.start()
        await asyncio.wait_for(isla.over.wait(), 10)
        self.assertEqual((isla.ended.cause, isla.ended.by), ("hung-up", "them"))
        call = await self.call()
        self.assertEqual((call.cause, call.by), ("lost", "us"))
        self.assertIsNotNone(call.recording_id)

    async def until_some_is_kept(self, call):
        kept = select(func.count()).where(RecordingPage.call_id == call.id)
        for _ in range(400):
            async with self.database.reading() as session:
                if await session.scalar(kept):
                    return
            await asyncio.sleep(0.05)
        self.fail("nothing of the call is kept")

    async def kill(self):
        """Our channel is gone, without a word."""
        self.server.ticker.stop()
        self.server._transport._udp.close()
        self.server._transport._server.close()
        for session in self.server.sessions.values():
            session.sockets.close()
        await asyncio.sleep(0.05)
