"""What happens to callers: transfer, messages, recording."""

import asyncio
import contextlib
import io
import unittest.mock

import av
import numpy as np
from sqlalchemy import func, select
from sqlalchemy.exc import OperationalError

from fond_echo.core.audio.clip import Clip
from fond_echo.core.telephony.sip.values import parse_uri
from fond_echo.phone import turns
from fond_echo.phone.call_log import CallLog
from fond_echo.records.journal import Journal
from fond_echo.softphone.handset import handset
from fond_echo.store.calls import RecordingPage
from fond_echo.store.clips import ClipStore
from tests.support.phone import ThroughACarrier
from tests.support.warbles import understood, warble


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
