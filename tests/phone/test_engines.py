"""Calls that outside services hear and speak in."""

import asyncio
import dataclasses
import time
import unittest

import numpy as np
from sqlalchemy import select

from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.reply import Reply
from fond_echo.core.audio.clip import join
from fond_echo.core.dialogue.free import FreeAnswer
from fond_echo.core.dialogue.functions import Wish
from fond_echo.core.errors import FondEchoError
from fond_echo.core.telephony.conversation.listening import Listener
from fond_echo.softphone.handset import handset
from fond_echo.store.records import Stage
from tests.support.engines import ONE_ROUTE
from tests.support.phone import OnAPhone
from tests.support.warbles import WarbleSpeech, understood, warble

FREE = """\
assistant: test-desk
voice: tern
greeting: Tern Sound Ferries.
brief: You are the harbour desk.
engines: {answer: [harbour-mind]}
routes:
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: Four pounds.}
fallback:
  reply: {free: true}
"""


class Hears:
    """A service that hears while somebody speaks."""

    def __init__(self, outside, expected):
        self.outside, self.expected = outside, expected
        self.clips, self.words = [], ""

    def feed(self, clip):
        self.clips.append(clip)
        self.outside.fed.append(time.monotonic())
        text = understood(join(self.clips))
        self.words = (
            text if text in {each.lower().strip("?.") for each in self.expected.phrases} else ""
        )

    async def finish(self, clip):
        self.outside.finished.append((time.monotonic(), clip.seconds))
        if self.outside.fails:
            raise FondEchoError("it broke")
        return await WarbleSpeech().transcribe(clip, self.expected, language="en", long=False)

    def asked(self):
        outcome = "failed" if self.outside.fails else "done"
        return [EngineAsked(engine="quick-ear", outcome=outcome, cost=0.001)]

    def cancel(self):
        self.outside.cancelled += 1


class Outside:
    """The test's world, whose assistant names engines for calls."""

    def __init__(self, world):
        self._world = world
        self.fed, self.finished, self.cancelled, self.fails = [], [], 0, False
        self.hearings = 0

    def __getattr__(self, name):
        return getattr(self._world, name)

    def live(self, expected, language):
        self.hearings += 1
        return Hears(self, expected)

    async def needs(self, channel, now, assistant=None):
        found = await self._world.needs(channel, now, assistant)
        recognizer = Ours(found.recognizer)
        return dataclasses.replace(found, recognizer=recognizer, live=self.live)


class Ours:
    """What is asked where the service fails: an outside one too, which is not asked for guesses."""

    outside = True

    def __init__(self, recognizer):
        self._recognizer = recognizer

    async def transcribe(self, *arguments, **fields):
        return await self._recognizer.transcribe(*arguments, **fields)


class LiveCalls(OnAPhone):
    speaking = dataclasses.replace(OnAPhone.speaking, live=True)

    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.outside = Outside(self.world)
        object.__setattr__(self.backend._needs, "world", self.outside)

    async def asked(self):
        async with self.database.reading() as session:
            rows = list(await session.scalars(select(Stage)))
        found = [row.output.get("asked") for row in rows if row.name == "transcribe" and row.output]
        return [(each["engine"], each["outcome"]) for asked in found for each in asked or []]

    async def call(self):
        async with handset() as caller:
            await caller.dial(self.number())
            await self.hears(caller, "tern sound ferries")
            await caller.say(warble("How much is a ticket?"))
            await self.hears(caller, "four pounds")

    async def test_what_is_said_is_handed_on_while_it_is_spoken(self):
        await self.call()
        self.assertEqual(await self.asked(), [("quick-ear", "done")])
        # It came in several pieces before its end.
        self.assertGreaterEqual(
            len([at for at in self.outside.fed if at < self.outside.finished[0][0]]), 3
        )
        self.assertEqual(
            await self.turns(), [("joined", "", "answered"), ("speech", "fares", "answered")]
        )

    async def test_where_it_fails_the_others_are_asked_and_both_are_told(self):
        self.outside.fails = True
        await self.call()
        self.assertEqual(await self.asked(), [("quick-ear", "failed")])
        self.assertEqual(
            await self.turns(), [("joined", "", "answered"), ("speech", "fares", "answered")]
        )

    async def test_who_hangs_up_while_speaking_leaves_nothing_open(self):
        async with handset() as caller:
            await caller.dial(self.number())
            await self.hears(caller, "tern sound ferries")
            saying = caller.say(join([warble("How much is a ticket?")] * 3))
            task = asyncio.create_task(saying)
            for _ in range(100):
                if self.outside.fed:
                    break
                await asyncio.sleep(0.02)
            await caller.hang_up()
            task.cancel()
        for _ in range(100):
            if self.outside.cancelled:
                break
            await asyncio.sleep(0.05)
        self.assertEqual(self.outside.cancelled, self.outside.hearings)


class SlowAnswers:
    """An engine that says four sentences, with time between them."""

    SENTENCES = ("The tide is low.", "The wind is strong.", "The quay is wet.", "The rope is new.")

    def __init__(self):
        self.given = []

    async def answer(self, question, heard=None):
        for sentence in self.SENTENCES:
            self.given.append(sentence)
            await heard(sentence)
            await asyncio.sleep(0.7)
        return FreeAnswer(" ".join(self.SENTENCES))


ASKS_FIRST = f"""\
assistant: harbour-desk
voice: tern
greeting: Tern Sound Ferries.
{ONE_ROUTE}    functions:
      timetable.hold: {{about: holds a place, confirm: Shall I hold a place for you?}}
"""


class AsksFirst:
    """An engine that wants a place held, tells of it, and after that chooses a route."""

    async def answer(self, question, heard=None):
        if question.calls:
            return FreeAnswer("The place is held.")
        named = "route.fares" if "weather" in question.text.lower() else "timetable.hold"
        return FreeAnswer("", wishes=(Wish(named, {}),))


class WithAnswerer:
    """The test's world, with an engine that answers freely."""

    def __init__(self, world, answerer):
        self._world, self._answerer = world, answerer

    def __getattr__(self, name):
        return getattr(self._world, name)

    async def needs(self, channel, now, assistant=None):
        found = await self._world.needs(channel, now, assistant)
        return dataclasses.replace(found, answerer=self._answerer)


class AskedFirst(OnAPhone):
    """A function that asks first, by key; and a route that the engine chooses, in one call."""

    async def test_a_key_says_yes_and_the_engine_s_route_is_spoken(self):
        await self.publish(ASKS_FIRST)
        self.world.logic.answer = lambda asked: Reply(text="held")
        object.__setattr__(self.backend._needs, "world", WithAnswerer(self.world, AsksFirst()))
        async with handset() as caller:
            await caller.dial(self.number())
            await self.hears(caller, "tern sound ferries")
            await caller.say(warble("Could you keep one place?"))
            await self.hears(caller, "hold a place")
            self.assertEqual(self.world.logic.requested, [])
            caller.press("1")
            await self.hears(caller, "place is held")
            await caller.say(warble("And the weather over there?"))
            await self.hears(caller, "four pounds")
        self.assertEqual([each.action for each in self.world.logic.requested], ["hold"])
        self.assertEqual(
            [each[1] for each in await self.turns()], ["", "fallback", "fallback", "fares"]
        )


class BargeIn(OnAPhone):
    """A caller who cuts in on an answer that is still being written."""

    async def test_the_rest_is_not_said_and_the_next_question_is_answered(self):
        await self.publish(FREE)
        answers = SlowAnswers()
        object.__setattr__(self.backend._needs, "world", WithAnswerer(self.world, answers))
        async with handset() as caller:
            await caller.dial(self.number())
            await self.hears(caller, "tern sound ferries")
            await caller.say(warble("What is it like at the quay?"))
            await self.hears(caller, "the tide is low", quiet=0.3)
            await caller.say(warble("How much is a ticket?"))
            heard = []
            for _ in range(6):
                heard.append(understood(await caller.listen(quiet=0.6, longest=6.0)))
                if "four pounds" in " ".join(heard):
                    break
        self.assertIn("four pounds", " ".join(heard))
        self.assertNotIn("rope", " ".join(heard))
        turns = await self.turns()
        self.assertEqual([each[1] for each in turns], ["", "fallback", "fares"])
        # All of it stands on the turn, as it was written.
        async with self.database.reading() as session:
            rows = await session.scalars(select(Stage).where(Stage.name == "answer"))
            texts = [row.output["parts"][0]["text"] for row in rows]
        self.assertIn(" ".join(SlowAnswers.SENTENCES), texts)


class Frames(unittest.TestCase):
    """What a listener hands on of somebody who speaks."""

    def test_every_frame_once_and_the_beginning_is_told(self):
        listener, rng = Listener(), np.random.default_rng(1)
        quiet = np.zeros(160, np.int16)
        loud = (rng.normal(0, 4_000, 160)).astype(np.int16)
        for _ in range(40):
            listener.feed(quiet)
        self.assertIsNone(listener.fresh())
        handed, begun = [], []
        for place in range(30):
            listener.feed(loud)
            if place % 5 == 4 and (fresh := listener.fresh()) is not None:
                handed.append(fresh[0])
                begun.append(fresh[1])
        self.assertEqual(begun, [True] + [False] * (len(begun) - 1))
        said = listener.finish().samples
        np.testing.assert_array_equal(np.concatenate(handed), said)
        self.assertIsNone(listener.fresh())
