"""Several short messages at once, rooms of many, and messages that quote another."""

import doctest
import unittest

from sqlalchemy import select, text

from fond_echo.contract.channel import ChannelSettings, Groups, Inbound, Quoted
from fond_echo.core.dialogue import addressing
from fond_echo.core.dialogue.addressing import addressed_to
from fond_echo.records.journal import Journal
from fond_echo.store.bursts import for_us
from fond_echo.store.records import Turn
from tests.support.driving import Driving
from tests.support.world import unhurried


class Bursts(Driving):
    settings = unhurried().model_copy(update={"merge_seconds": 5.0})

    async def count(self):
        async with self.database.reading() as session:
            return [turn.text for turn in await session.scalars(select(Turn).order_by(Turn.id))]

    async def test_short_texts_within_a_moment_are_one_turn(self):
        first = await self.arrive("m1", "When is the next boat")
        second = await self.arrive("m2", "to Pell?")
        again = await self.arrive("m2", "to Pell?")
        other = await self.arrive(
            "m3", "How much is a ticket?", contact="piet", conversation="room-2"
        )
        self.assertEqual((second, again), (first, first))
        self.assertNotEqual(other, first)
        self.assertEqual(
            await self.count(), ["When is the next boat\nto Pell?", "How much is a ticket?"]
        )
        await self.driver.work(first)
        (requested,) = self.world.logic.requested
        self.assertEqual(requested.turn.text, "When is the next boat\nto Pell?")
        # The first message, told again, is known; what comes now is a turn of its own.
        self.assertEqual(await self.arrive("m1", "When is the next boat"), "")
        self.assertNotIn(await self.arrive("m4", "Thank you."), ("", first))

    async def test_a_job_waits_for_the_end_of_the_burst(self):
        await self.arrive("m1", "When is the next boat")
        async with self.database.reading() as session:
            rows = (
                await session.execute(text("SELECT scheduled_at FROM procrastinate_jobs"))
            ).all()
        self.assertTrue(all(row.scheduled_at is not None for row in rows))

    async def test_what_is_worked_on_already_is_not_added_to(self):
        first = await self.arrive("m1", "When is the next boat to Pell?")
        claim = await Journal(self.database, self.queue).claim(first)
        self.assertIsNotNone(claim)
        self.assertNotIn(await self.arrive("m2", "and to Brannick?"), ("", first))

    async def test_long_texts_commands_and_quotes_stand_alone(self):
        first = await self.arrive("m1", "When is the next boat?")
        for number, fields in enumerate((
            {"text": "x" * 500}, {"text": "next", "command": True},
            {"text": "and this?", "quoted": Quoted(text="A boat.")},
        )):  # fmt: skip
            self.assertNotEqual(await self.arrive(f"n{number}", **fields), first)


class Unhurried(Driving):
    async def test_without_the_setting_each_is_a_turn(self):
        first = await self.arrive("m1", "When is the next boat")
        self.assertNotEqual(await self.arrive("m2", "to Pell?"), first)


class RoomsOfMany(unittest.TestCase):
    settings = ChannelSettings(groups=Groups(names=["harbour desk", "desk"]))

    def meant(self, text, settings=None, **fields):
        message = Inbound(
            id="m", conversation="pier", contact="isla", text=text, group=True, **fields
        )
        found = for_us(message, settings or self.settings)
        return None if found is None else found.text

    def test_who_is_called_is_meant(self):
        for words, said in (
            ("Harbour desk, when is the next boat?", "when is the next boat?"),
            ("hey desk when is the next boat", "when is the next boat"),
            ("@harbour-desk: fares", "fares"),
            ("What does it cost, desk?", "What does it cost?"),
            ("What does it cost @desk", "What does it cost"),
            ("I left it at the desk.", None),
            ("Desktops are heavy.", None),
            ("See you at noon", None),
        ):
            self.assertEqual(self.meant(words), said, words)

    def test_a_quote_of_ours_a_command_and_a_button_are_meant(self):
        self.assertEqual(
            self.meant("and to Pell?", quoted=Quoted(text="At ten.", ours=True)), "and to Pell?"
        )
        self.assertIsNone(self.meant("and to Pell?", quoted=Quoted(text="At ten.")))
        self.assertEqual(self.meant("next", command=True), "next")
        self.assertEqual(self.meant("", choice="Pell"), "")

    def test_what_a_channel_wants(self):
        for answer, said in (("everything", "Hello there"), ("nothing", None)):
            settings = ChannelSettings(groups=Groups(answer=answer, names=["desk"]))
            self.assertEqual(self.meant("Hello there", settings), said)
        self.assertIsNone(
            self.meant("desk, hello", ChannelSettings(groups=Groups(answer="nothing")))
        )

    def test_a_room_of_one_is_always_meant(self):
        message = Inbound(id="m", conversation="room-isla", contact="isla", text="Hello")
        self.assertIs(for_us(message, self.settings), message)

    def test_examples(self):
        self.assertEqual(doctest.testmod(addressing).failed, 0)
        self.assertIsNone(addressed_to("hello", ["", " "]))


class Quotes(Driving):
    async def ask(self, words, **quoted):
        turn_id = await self.arrive(f"m{len(self.sent)}", words, quoted=Quoted(**quoted))
        await self.driver.work(turn_id)
        return (await self.turn(turn_id)).route

    async def test_what_leads_nowhere_alone_is_meant_with_what_it_quotes(self):
        quoted = "When is the next boat to Pell?"
        self.assertEqual(await self.ask("can anybody say", text=quoted), "next-sailing")
        (requested,) = self.world.logic.requested
        self.assertEqual((requested.turn.quoted, requested.turn.text), (quoted, "can anybody say"))

    async def test_our_own_words_are_no_question(self):
        self.assertEqual(
            await self.ask("splendid weather", text="When is the next boat to Pell?", ours=True),
            "fallback",
        )

    async def test_what_leads_somewhere_goes_there(self):
        self.assertEqual(
            await self.ask("When is the next boat to Pell?", text="Lovely day"), "next-sailing"
        )
