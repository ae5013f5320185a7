"""Who is answered, what else comes in, and turns that wait for what is down."""

import asyncio
import unittest.mock
from datetime import UTC, datetime, timedelta

from sqlalchemy import select, update

from fond_echo.connectors.errors import Refused, Unreachable
from fond_echo.contract.channel import Access, Quotas
from fond_echo.contract.reply import Attachment, Choice, Reply
from fond_echo.driver import sending
from fond_echo.speech.errors import SpeechUnreachable
from fond_echo.store.inbound import count_use
from fond_echo.store.records import Contact, Inbound, Stage, Turn, Usage
from fond_echo.turns.ports import Abilities
from tests.driver.test_queued import QUESTION, Driving, note
from tests.support.world import ASSISTANT, unhurried


class Settled(Driving):
    settings = unhurried()

    async def say(self, id, text="How much is a ticket?", **fields):
        turn_id = await self.arrive(id, text=text, **fields)
        if turn_id:
            await self.driver.work(turn_id)
        return turn_id

    async def standing(self, contact="isla"):
        async with self.database.reading() as session:
            return (
                await session.scalars(
                    select(Contact.standing).where(Contact.external_id == contact)
                )
            ).one()


class ForAList(Settled):
    settings = unhurried(access=Access(mode="list", refusal="For the crew only."))

    async def test_others_get_the_set_line_once_an_hour_and_are_shown(self):
        await self.say("m1")
        self.assertEqual([each.text for each in self.sent], ["For the crew only."])
        self.assertEqual(await self.say("m2"), "")
        self.assertEqual(await self.standing(), "refused")
        async with self.database.reading() as session:
            inbound = (await session.scalars(select(Inbound))).one()
            self.assertEqual(
                (inbound.payload, inbound.message["text"]),
                ({}, ""),
                "a stranger's words are not kept",
            )
        async with self.database.writing() as session:
            await session.execute(
                update(Contact).values(told_at=datetime.now(UTC) - timedelta(hours=2))
            )
        await self.say("m3")
        self.assertEqual(len(self.sent), 2)

    async def test_one_step_lets_a_contact_in(self):
        await self.say("m1")
        async with self.database.writing() as session:
            await session.execute(update(Contact).values(standing="allowed"))
        await self.say("m2")
        self.assertIn("Four pounds", self.sent[-1].text)

    async def test_a_refused_voice_note_is_not_fetched(self):
        def never(handle):
            raise AssertionError("it was fetched")

        self.world.channel.on_fetch = never
        await self.driver.work(await self.arrive("m1", sound=note()))
        self.assertEqual([each.kind for each in self.sent], ["text"])


class ByWord(Settled):
    settings = unhurried(access=Access(mode="word", word="Old Dunlin", welcome="Come aboard."))

    async def test_the_word_opens_the_door(self):
        await self.say("m1")
        self.assertEqual(await self.standing(), "refused")
        await self.say("m2", "old dunlin!")
        self.assertEqual(self.sent[-1].text, "Come aboard.")
        await self.say("m3")
        self.assertIn("Four pounds", self.sent[-1].text)
        await self.say("m4", contact="piet", conversation="room-2")
        self.assertEqual(await self.standing("piet"), "refused")


class Blocked(Settled):
    async def test_a_blocked_contact_makes_no_turns(self):
        await self.say("m1")
        async with self.database.writing() as session:
            await session.execute(update(Contact).values(standing="blocked"))
        self.assertEqual(await self.say("m2"), "")
        self.assertEqual(len(self.sent), 1)


class Limited(Settled):
    settings = unhurried(quotas=Quotas(turns=2, reached="Enough for today."))

    async def test_turns_a_day(self):
        for number in range(4):
            await self.say(f"m{number}")
        self.assertEqual([each.text.splitlines()[0] for each in self.sent],
                         ["Four pounds, Isla.", "Four pounds, Isla.", "Enough for today."])  # fmt: skip
        async with self.database.writing() as session:
            yesterday = datetime.now(UTC).date() - timedelta(days=1)
            await session.execute(update(Usage).values(day=yesterday))
        await self.say("m9")
        self.assertIn("Four pounds", self.sent[-1].text)

    async def test_messages_at_once_and_repeated_are_counted_once_each(self):
        names = [f"m{number}" for number in range(6)]
        await asyncio.gather(*(self.arrive(name, "How much is a ticket?") for name in names * 2))
        async with self.database.reading() as session:
            standings = (await session.scalars(select(Turn.standing).order_by(Turn.number))).all()
            used = (await session.scalars(select(Usage.turns))).one()
        self.assertEqual(list(standings), ["", "", "quota"])
        self.assertEqual(used, 2)
        self.assertEqual(len(await self.waiting_jobs()), 1, "the others wait for the first")

    async def test_what_is_repeated_once_the_day_is_used_up_is_known(self):
        for name in ("m1", "m2", "m1"):
            turn_id = await self.arrive(name, "How much is a ticket?")
        self.assertEqual(turn_id, "")
        async with self.database.reading() as session:
            self.assertEqual(len((await session.scalars(select(Turn))).all()), 2)


class LimitedSound(Settled):
    settings = unhurried(quotas=Quotas(seconds_heard=1, characters_spoken=500))

    async def test_seconds_heard_and_characters_spoken_are_counted(self):
        await self.driver.work(await self.arrive("m1", sound=note("How much is a ticket?")))
        async with self.database.reading() as session:
            used = (await session.scalars(select(Usage))).one()
        self.assertAlmostEqual(used.seconds_heard, 1.5, delta=0.7)
        self.assertGreater(used.characters_spoken, 10)
        await self.driver.work(await self.arrive("m2", sound=note("How much is a ticket?")))
        self.assertIn("That is all for today", self.sent[-1].text)

    async def test_a_message_comes_while_what_the_one_before_used_is_counted(self):
        coming = None

        async def counted(*given):
            nonlocal coming
            coming = coming or asyncio.create_task(self.arrive("m2", "How much is a ticket?"))
            await asyncio.sleep(0.3)
            await count_use(*given)

        first = await self.arrive("m1", sound=note("How much is a ticket?"))
        with unittest.mock.patch("fond_echo.records.journal.count_use", counted):
            await self.driver.work(first)
        self.assertTrue(await coming, "neither waits for what the other has locked")
        self.assertEqual((await self.turn(first)).state, "answered")


class WhatCameIn(Settled):
    assistant = ASSISTANT.replace(
        "voice: tern", "voice: tern\ngreeting: Welcome, {{ contact.name }}."
    )

    async def test_a_contact_that_joins_is_greeted(self):
        turn_id = await self.say("m1", "", joined=True)
        self.assertEqual(self.sent[0].text, "Welcome, Isla.")
        self.assertEqual((await self.turn(turn_id)).cause, "greeting")

    async def test_anything_else_gets_a_kind_line(self):
        turn_id = await self.say("m1", "")
        self.assertIn("texts and voice notes", self.sent[0].text)
        self.assertEqual((await self.turn(turn_id)).arrived_as, "other")

    async def test_a_document_is_sound_by_its_bytes(self):
        from fond_echo.contract.channel import SoundHandle

        for id, data, route in (
            ("d1", note("How much is a ticket?"), "fares"),
            ("d2", b"%PDF-1.7 " * 50, ""),
        ):
            self.world.channel.sounds[id] = data
            turn_id = await self.arrive(id)
            async with self.database.writing() as session:
                inbound = (
                    await session.scalars(select(Inbound).where(Inbound.external_id == id))
                ).one()
                handle = SoundHandle(handle=id, kind="document").model_dump()
                inbound.message = {**inbound.message, "sound": handle}
            await self.driver.work(turn_id)
            self.assertEqual((await self.turn(turn_id)).route, route)
        self.assertIn("cannot listen to that kind of file", self.sent[-1].text)

    async def test_a_number_chooses_from_the_list_before(self):
        await self.say("m1")
        self.assertTrue(self.sent[0].text.endswith("1. Book a place"))
        turn_id = await self.say("m2", "1.")
        async with self.database.reading() as session:
            wanted = (
                select(Stage.input).where(Stage.name == "route").order_by(Stage.started_at.desc())
            )
            self.assertEqual((await session.scalars(wanted)).first()["text"], "Book a place")
        self.assertEqual((await self.turn(turn_id)).text, "1.")


class FallBacks(Settled):
    async def reply(self, reply, kinds, sound=True, **limits):
        self.sent.clear()
        self.world.channel.abilities = Abilities(frozenset(kinds), **limits)
        self.world.logic.answer = lambda requested: reply
        fields = {"sound": note()} if sound else {"text": QUESTION}
        await self.driver.work(
            await self.arrive(f"m{len(kinds)}{sound}{limits}{reply.text[:9]}", **fields)
        )
        return [each.kind for each in self.sent]

    async def test_what_a_network_cannot_do_goes_another_way(self):
        plain = Reply(text="The boat leaves at noon.")
        self.assertEqual(await self.reply(plain, ["text", "voice", "file"]), ["voice"])
        self.assertEqual(await self.reply(plain, ["text", "file"]), ["file"])
        self.assertEqual(await self.reply(plain, ["text"]), ["text"])
        self.assertEqual(
            await self.reply(plain, ["text", "voice", "file"], voice_bytes=100), ["file"]
        )
        self.assertEqual(await self.reply(plain, ["text", "voice"], voice_bytes=100), ["text"])

    async def test_choices(self):
        asking = Reply(
            text="Where to?", choices=[Choice(label="Pell"), Choice(label="Ossel", value="o")]
        )
        self.assertEqual(await self.reply(asking, ["text", "choices"], sound=False), ["choices"])
        self.assertEqual(self.sent[0].choices, (("Pell", "Pell"), ("Ossel", "o")))
        self.assertEqual(await self.reply(asking, ["text"], sound=False), ["text"])
        self.assertEqual(self.sent[0].text, "Where to?\n\n1. Pell\n2. Ossel")
        self.assertEqual(
            await self.reply(asking, ["text", "voice", "choices"]), ["voice", "choices"]
        )

    async def test_attachments(self):
        link = "https://tern.example/map.png"
        reply = Reply(
            text="The map.", attachments=[Attachment(url=link, name="map", media_type="image/png")]
        )
        self.assertEqual(
            await self.reply(reply, ["text", "picture", "file"], sound=False), ["text", "picture"]
        )
        self.assertEqual(self.sent[1].url, link)
        self.assertEqual(await self.reply(reply, ["text", "file"], sound=False), ["text", "file"])
        self.assertEqual(await self.reply(reply, ["text"], sound=False), ["text", "text"])
        self.assertIn(link, self.sent[1].text)

    async def test_sound_longer_than_the_line_takes(self):
        turn_id = await self.arrive("long", sound=note())
        self.world.channel.abilities = Abilities(frozenset(("text", "voice")), voice_seconds=1.0)
        await self.driver.work(turn_id)
        self.assertEqual((await self.turn(turn_id)).error["code"], "sound-too-long")


class Waiting(Settled):
    async def state(self, turn_id):
        turn = await self.turn(turn_id)
        return turn.state, (turn.error or {}).get("code")

    async def test_sound_that_may_still_come_and_a_speech_process_that_is_down_are_waited_for(self):
        def down(handle):
            raise Unreachable("the network is down")

        async def gone(*args, **fields):
            raise SpeechUnreachable("restarting")

        hear = self.world.speech.transcribe
        turn_id = await self.arrive("m1", sound=note())
        self.world.channel.on_fetch = down
        await self.driver.work(turn_id)
        self.assertEqual(await self.state(turn_id), ("received", None))
        self.world.channel.on_fetch = lambda handle: None
        self.world.speech.transcribe = gone
        await self.driver.work(turn_id)
        self.assertEqual(await self.state(turn_id), ("received", None))
        self.world.speech.transcribe = hear
        await self.driver.work(turn_id)
        self.assertEqual(await self.state(turn_id), ("answered", None))
        tried = [(stage.name, stage.attempt, stage.outcome) for stage in await self.stages(turn_id)]
        self.assertIn(("fetch", 1, "again"), tried)
        self.assertIn(("fetch", 2, "done"), tried)
        self.assertIn(("transcribe", 1, "again"), tried)

    async def test_patience_ends(self):
        def down(handle):
            raise Unreachable("the network is down")

        self.world.channel.on_fetch = down
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        self.assertEqual(await self.state(turn_id), ("received", None))
        async with self.database.writing() as session:
            await session.execute(
                update(Stage)
                .where(Stage.name == "fetch")
                .values(started_at=datetime.now(UTC) - timedelta(minutes=6))
            )
        await self.driver.work(turn_id)
        self.assertEqual(await self.state(turn_id), ("failed", "sound-not-fetched"))

    async def test_a_handle_that_expired_is_not_waited_for(self):
        def gone(handle):
            raise Refused("expired", status=410)

        self.world.channel.on_fetch = gone
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        self.assertEqual(await self.state(turn_id), ("failed", "sound-not-fetched"))

    async def test_a_turn_that_waits_keeps_the_order(self):
        pauses, sending.PAUSES = sending.PAUSES, (0.0, 0.0)
        self.addCleanup(setattr, sending, "PAUSES", pauses)
        left = [Unreachable("down")] * 3

        def fail(outgoing):
            if left:
                raise left.pop()

        self.world.channel.on_send = fail
        first, second = (
            await self.arrive("m1", text=QUESTION),
            await self.arrive("m2", text="How much is a ticket?"),
        )
        await self.driver.work(first)
        await self.driver.work(second)
        self.assertEqual(
            ((await self.state(first))[0], (await self.state(second))[0]), ("received", "waiting")
        )
        await self.driver.work(first)
        await self.driver.work(second)
        self.assertEqual([each.text[:4] for each in self.sent], ["Abou", "Four"])
