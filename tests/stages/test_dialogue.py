"""A dialogue over several turns with real speech and real records: asked by voice, answered by
text, pinned to its revision, kept over a restart, forgotten the next day."""

from datetime import UTC, datetime, timedelta

from sqlalchemy import select, update

from fond_echo.contract.reply import Ask, Reply
from fond_echo.core.audio.containers import encode
from fond_echo.driver.queued import QueuedDriver
from fond_echo.records.journal import Journal
from fond_echo.store.records import Contact, Conversation, Revision
from tests.sounds import speech
from tests.support.driving import Driving

DESK = """\
assistant: test-desk
voice: tern
grammar: names.abnf
goodbye: Fair winds.
logic:
  desk: {url: "http://127.0.0.1:1/logic", key: {secret: desk-mark}, failed: The desk is closed.}
routes:
  - route: book
    rule: book
    examples: [I want to take my bicycle]
    slots:
      island: {rule: island, ask: [Which island?, Brannick or Pell?]}
      places: {kind: number, ask: How many?, confirm: true}
    read_back: "{{ slots.places }} to {{ slots.island }}?"
    reply: {logic: desk.book}
  - route: fares
    examples: [How much is a ticket?]
    answers_in: text
    reply: {text: Four pounds.}
fallback:
  reply: {text: I know about boats and fares.}
"""
NAMES = "#ABNF 1.0;\n$island = Brannick {Brannick} | Pell {Pell};\n$book = book a bicycle place [to $island];\n"


class Dialogue(Driving):
    number = 0

    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.publish(DESK, {"names.abnf": NAMES})

    async def say(self, text, spoken_reply=False):
        """What is answered to something said; the route of it."""
        self.number += 1
        self.sent.clear()
        sound = encode(speech(text, "curlew"), "ogg") if spoken_reply else None
        turn_id = await self.arrive(f"m{self.number}", "" if spoken_reply else text, sound=sound)
        await self.driver.work(turn_id)
        return self.sent[0].text if self.sent else ""

    async def test_asked_by_voice_answered_by_text_and_by_voice(self):
        self.assertEqual(
            await self.say("Book a bicycle place.", spoken_reply=True), "Which island?"
        )
        self.assertEqual(self.sent[0].kind, "voice")
        self.assertEqual(await self.say("hm"), "Brannick or Pell?\n\n1. Brannick\n2. Pell")
        self.assertEqual(await self.say("I go to Pell.", spoken_reply=True), "How many?")
        self.assertEqual(await self.say("two"), "2 to Pell?\n\n1. Yes\n2. No")
        await self.say("1")
        (requested,) = self.world.logic.requested
        self.assertEqual(requested.slots, {"island": "Pell", "places": 2})
        self.assertEqual(requested.conversation.recent[0].answered, "Which island?")

    async def test_a_number_that_only_the_network_of_the_slot_knows_is_heard(self):
        await self.say("Book a bicycle place to Pell.")
        self.assertEqual(await self.say("Twenty three.", spoken_reply=True), "23 to Pell?")

    async def test_undo_is_what_the_logic_names_for_it(self):
        async def booked():
            for text in ("never mind", "Book a bicycle place to Pell", "two", "yes"):
                await self.say(text)
            self.world.logic.requested.clear()

        await booked()
        for _ in range(2):
            found = await self.say("undo that")
            self.assertEqual(found, "That is done already, and I cannot take it back.")
        self.assertEqual(self.world.logic.requested, [])
        undoing = DESK.replace(
            "reply: {logic: desk.book}", "reply: {logic: desk.book, undo: desk.cancel}"
        )
        await self.publish(undoing, {"names.abnf": NAMES})
        await booked()
        self.world.logic.answer = lambda asked: Reply(text="Your place is free again.")
        self.assertEqual(await self.say("undo that"), "Your place is free again.")
        (asked,) = self.world.logic.requested
        self.assertEqual((asked.action, asked.route, asked.slots),
                         ("cancel", "book", {"island": "Pell", "places": 2}))  # fmt: skip
        await self.say("How much is a ticket?")
        self.assertIn("taken that back", await self.say("undo that"))
        self.assertEqual(len(self.world.logic.requested), 1)

    async def test_it_outlives_a_restart_and_keeps_its_revision(self):
        await self.say("book a bicycle place")
        await self.publish(DESK.replace("How many?", "Say a number."), {"names.abnf": NAMES})
        self.driver = QueuedDriver(Journal(self.database, self.queue), self.world)
        self.assertEqual(await self.say("Pell"), "How many?")
        await self.say("never mind")
        await self.say("book a bicycle place")
        self.assertEqual(await self.say("Pell"), "Say a number.")

    async def test_a_question_of_yesterday_is_not_open_any_more(self):
        await self.say("book a bicycle place")
        newer = DESK.replace("I know about boats and fares.", "Ask me something else.")
        await self.publish(newer, {"names.abnf": NAMES})
        async with self.database.writing() as session:
            state = (await session.scalars(select(Conversation.state))).one()
            old = (datetime.now(UTC) - timedelta(days=1)).isoformat()
            await session.execute(update(Conversation).values(state={**state, "since": old}))
        said = "Ask me something else."
        self.assertEqual(await self.say("Pell"), said, "and its revision is not kept either")

    async def test_logic_asks_for_a_slot_remembers_for_days_and_fails_in_its_own_words(self):
        self.world.logic.answer = lambda requested: Reply(
            text="None are left. How many?", then=Ask(slot="places"),
            remember={"wish": "Pell"}, remember_days=3, variables={"tried": 1},
        )  # fmt: skip
        await self.say("book a bicycle place to Pell")
        await self.say("nine")
        await self.say("yes")
        self.assertEqual(await self.say("four"), "4 to Pell?\n\n1. Yes\n2. No")
        async with self.database.reading() as session:
            memory = (await session.scalars(select(Contact.memory))).one()
            state = (await session.scalars(select(Conversation.state))).one()
        self.assertEqual((memory["wish"], state["variables"]), ("Pell", {"tried": 1}))
        self.assertIn("wish", memory["_until"])

        def failing(requested):
            from fond_echo.connectors.errors import LogicFailed

            raise LogicFailed("down")

        self.world.logic.answer = failing
        self.assertEqual(await self.say("yes"), "The desk is closed.")

    async def test_a_route_says_how_it_is_answered(self):
        await self.say("How much is a ticket?", spoken_reply=True)
        self.assertEqual([each.kind for each in self.sent], ["text"])

    async def test_goodbye_and_once_more(self):
        await self.say("how much is a ticket")
        self.assertEqual(await self.say("say that again"), "Four pounds.")
        self.assertEqual(await self.say("thanks, bye"), "Fair winds.")
        async with self.database.reading() as session:
            state = (await session.scalars(select(Conversation.state))).one()
            self.assertTrue(state["ended"])
            self.assertEqual(await session.scalar(select(Revision.assistant).limit(1)), "test-desk")

    async def test_clearing_and_forgetting_leave_nothing_of_the_talk(self):
        for words, said in (
            ("start over", "All right, we start over."),
            ("forget me", "All right. I have forgotten what I knew about you."),
        ):
            self.world.logic.answer = lambda requested: Reply(
                text="None are left.", variables={"tried": 1}, remember={"wish": "Pell"}
            )
            await self.say("book a bicycle place to Pell")
            await self.say("nine")
            await self.say("yes")
            self.assertEqual(await self.say(words), said)
            async with self.database.reading() as session:
                state = (await session.scalars(select(Conversation.state))).one()
                memory = (await session.scalars(select(Contact.memory))).one()
            self.assertEqual(state, {})
            self.assertEqual("wish" in memory, words != "forget me")
