"""What was not heard surely is offered once: yes, no, something else, silence; in chat and call."""

from datetime import timedelta

from sqlalchemy import update

from fond_echo.contract.channel import Inbound, SoundHandle
from fond_echo.contract.turn import Heard, HeardOtherwise
from fond_echo.store.inbound import take_in_once
from fond_echo.store.records import Conversation
from tests.stages.test_dialogue import DESK, NAMES
from tests.support.driving import Driving, note

NOTE = note("Pell.")


def doubt(*expected, words="tell bell"):
    """A dictated reading that nobody believes, and the expected phrases that came near."""
    others = [HeardOtherwise(text=t, confidence=c, expected=True) for t, c in expected]
    return Heard(
        spoken=words, written=words, confidence=0.1, source="dictation", speech_seconds=0.5,
        alternatives=[*others, HeardOtherwise(text="tall bell", confidence=0.1)],
    )  # fmt: skip


def sure(text):
    return Heard(
        spoken=text.lower().rstrip(".?"), written=text, confidence=0.95, source="expected",
        speech_seconds=0.5,
    )  # fmt: skip


class Offers(Driving):
    number = 0

    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.publish(DESK, {"names.abnf": NAMES})
        self.world.speech.transcribe = self.hears

    async def hears(self, clip, expected, *, language, long):
        self.expected = expected
        return self.heard

    async def say(self, heard, call=False):
        """What is answered to something said; the choices that go with it."""
        self.number += 1
        self.sent.clear()
        name = f"m{self.number}"
        if isinstance(heard, str):
            turn_id = await self.arrive(name, heard)
        else:
            self.heard = heard
            self.world.channel.sounds[name] = NOTE
            sound = SoundHandle(handle=name, kind="call" if call else "note")
            message = Inbound(
                id=name,
                conversation="room-1",
                contact="isla",
                sound=sound,
                spoken_reply=call or None,
            )
            taken = await take_in_once(self.database, "test-channel", self.settings, message, {})
            turn_id = taken.turn_id
        await self.driver.work(turn_id)
        self.last = await self.turn(turn_id)
        return self.sent[0].text.partition("\n")[0]

    async def test_yes_is_as_if_it_had_been_said(self):
        for answer in ("Yes", sure("Yes, please.")):
            offer = await self.say(doubt(("how much is a ticket", 0.4)))
            self.assertEqual(offer, "Did you say: How much is a ticket?")
            self.assertEqual(await self.say(answer), "Four pounds.")
            self.assertEqual(self.last.route, "fares")
        self.assertIn("Yes, please.", self.expected.phrases)

    async def test_no_asks_for_other_words_and_offers_nothing_again(self):
        await self.say(doubt(("how much is a ticket", 0.4)))
        self.assertIn("once more, in other words", await self.say("no"))
        self.assertEqual(await self.say("How much is a ticket?"), "Four pounds.")

    async def test_another_phrase_is_taken_and_a_second_doubt_is_not_offered(self):
        await self.say(doubt(("how much is a ticket", 0.4)))
        self.assertEqual(await self.say(sure("I want to take my bicycle.")), "Which island?")
        await self.say("never mind")
        await self.say(doubt(("how much is a ticket", 0.4)))
        again = await self.say(doubt(("how much is a ticket", 0.4)))
        self.assertIn("I am not sure I understood that.", again)
        self.assertIn("Did you say", await self.say(doubt(("how much is a ticket", 0.4))))

    async def test_two_that_are_near_are_two_choices(self):
        offer = await self.say(doubt(("how much is a ticket", 0.4), ("goodbye", 0.3)))
        self.assertEqual(offer, "Which did you say?")
        async with self.database.reading() as session:
            state = (await self.conversation(session)).state
        self.assertEqual(state["choices"], ["How much is a ticket?", "Goodbye"])
        self.assertEqual(await self.say("How much is a ticket?"), "Four pounds.")
        await self.say(doubt(("how much is a ticket", 0.4), ("goodbye", 0.3)))
        self.assertIn("once more, in other words", await self.say("no"))

    async def test_what_is_far_is_not_offered(self):
        answer = await self.say(doubt(("how much is a ticket", 0.05)))
        self.assertIn("I am not sure I understood that.", answer)

    async def test_a_slot_that_is_asked_for_stays_open(self):
        self.assertEqual(await self.say("I want to take my bicycle"), "Which island?")
        self.assertEqual(await self.say(doubt(("pell", 0.4))), "Did you say: Pell?")
        self.assertEqual(await self.say(sure("Yes.")), "How many?")
        self.assertEqual(await self.say(doubt(("two", 0.4))), "Did you say: Two?")
        self.assertIn("once more", await self.say("No"))
        self.assertTrue((await self.say("two")).startswith("2 to Pell?"))

    async def test_silence_forgets_the_offer(self):
        await self.say(doubt(("how much is a ticket", 0.4)))
        async with self.database.writing() as session:
            state = (await self.conversation(session)).state
            since = self.last.received_at - timedelta(hours=13)
            await session.execute(
                update(Conversation).values(state={**state, "since": since.isoformat()})
            )
        self.assertNotEqual(await self.say("yes"), "Four pounds.")

    async def conversation(self, session):
        from sqlalchemy import select

        return (await session.execute(select(Conversation))).scalar_one()

    async def test_in_a_call_it_is_said_with_its_keys(self):
        await self.say(doubt(("how much is a ticket", 0.4)), call=True)
        spoken = next(s for s in await self.stages(self.last.id) if s.name == "speak")
        words = " ".join(part["text"] for part in spoken.output["parts"])
        self.assertEqual(
            words,
            "did you say how much is a ticket for yes press or say one for no press or say two",
        )
        await self.say(sure("One."), call=True)
        self.assertEqual(self.last.route, "fares")
