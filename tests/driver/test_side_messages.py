"""What is said beside an answer: that it takes a moment, and what was heard."""

import asyncio
from datetime import UTC, datetime, timedelta

from sqlalchemy import update

from fond_echo.contract.channel import ChannelSettings, PleaseWait
from fond_echo.contract.reply import Attachment, Reply
from fond_echo.core.audio.clip import silence
from fond_echo.core.audio.containers import encode
from fond_echo.store.records import Turn
from fond_echo.turns.ports import Abilities
from tests.driver.test_queued import QUESTION, note
from tests.stages.test_channel_settings import Settled

SILENT = "I could not hear anything in your recording. Please try again."


class SideMessages(Settled):
    settings = ChannelSettings(
        echo_heard=True, please_wait=PleaseWait(after=0.4, text="One moment.")
    )

    async def test_what_was_heard_is_echoed_and_slowness_told(self):
        hear = self.world.speech.transcribe

        async def slowly(*args, **fields):
            await asyncio.sleep(0.5)
            return await hear(*args, **fields)

        self.world.speech.transcribe = slowly
        self.world.channel.abilities = Abilities(frozenset(("text", "voice", "delete")))
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        self.assertEqual([each.kind for each in self.sent], ["text", "text", "voice", "delete"])
        self.assertEqual(self.sent[3].id, "out-1", "what was said meanwhile is taken back")
        self.assertEqual([each.text for each in self.sent[:2]], ["One moment.", f"“{QUESTION}”"])
        await self.driver.work(turn_id)
        self.assertEqual(len(self.sent), 4)

    async def test_slow_hearing_and_a_slow_answer_say_it_once(self):
        hear = self.world.speech.transcribe

        async def hears_slowly(*args, **fields):
            await asyncio.sleep(0.6)
            return await hear(*args, **fields)

        async def answers_slowly(service, request, **fields):
            await asyncio.sleep(0.8)
            yield Reply(text="At noon.")

        self.world.speech.transcribe = hears_slowly
        self.world.logic.ask = answers_slowly
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        self.assertEqual((await self.turn(turn_id)).state, "answered")
        written = [each.text for each in self.sent if each.kind == "text"]
        self.assertEqual(written.count("One moment."), 1, written)

    async def test_words_beside_an_answer_of_three_parts_have_places_of_their_own(self):
        hear = self.world.speech.transcribe

        async def slowly(*args, **fields):
            await asyncio.sleep(0.5)
            return await hear(*args, **fields)

        self.world.speech.transcribe = slowly
        self.world.channel.abilities = Abilities(frozenset(("text", "voice", "picture")))
        shown = [Attachment(url=f"https://a.example/{n}.png", media_type="image/png") for n in "12"]
        self.world.logic.answer = lambda requested: Reply(text="Look.", attachments=shown)
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        kinds = [each.kind for each in self.sent]
        self.assertEqual(kinds, ["text", "text", "voice", "picture", "picture"])

    async def test_a_turn_that_ends_while_slowness_is_told_leaves_nothing_being_sent(self):
        reported, ended = asyncio.Event(), asyncio.Event()
        send, hear = self.world.channel.send, self.world.speech.transcribe

        async def send_slowly(outgoing):
            if outgoing.text == "One moment.":
                reported.set()
                await ended.wait()
            return await send(outgoing)

        async def hear_later(*arguments, **fields):
            await reported.wait()
            asyncio.get_running_loop().call_later(0.2, ended.set)
            return await hear(*arguments, **fields)

        self.world.channel.send, self.world.speech.transcribe = send_slowly, hear_later
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        states = {each.text: each.state for each in await self.deliveries(turn_id)}
        self.assertEqual(states["One moment."], "sent")
        self.assertEqual((await self.turn(turn_id)).state, "answered")

    async def test_what_was_being_told_when_a_worker_stopped_is_in_doubt(self):
        turn_id = await self.arrive("m1", sound=note())
        claim = await self.journal.claim(turn_id)
        row, _ = await self.journal.outbox.aside(claim, -2, "One moment.")
        await self.journal.outbox.move(claim, row, "sending")
        await self.driver.work(turn_id)
        self.assertEqual((await self.deliveries(turn_id))[0].state, "in-doubt")

    async def test_a_note_without_speech_that_is_tried_again_is_answered_alone(self):
        turn_id = await self.arrive("m1", sound=encode(silence(1.0, 16_000), "ogg"))
        async with self.database.writing() as session:
            long_ago = datetime.now(UTC) - timedelta(hours=2)
            await session.execute(update(Turn).values(received_at=long_ago))
        await self.driver.work(turn_id)
        self.assertEqual((await self.turn(turn_id)).error["code"], "sound-silent")
        self.assertEqual(self.sent[-1].text, SILENT)
        self.sent.clear()
        async with self.database.writing() as session:
            await session.execute(
                update(Turn).values(state="received", run_id=None, error=None, finished_at=None)
            )
        await self.driver.work(turn_id)
        self.assertEqual([each.text for each in self.sent], [SILENT])

    async def test_a_text_is_not_echoed(self):
        await self.say("m1")
        self.assertEqual(len(self.sent), 1)
