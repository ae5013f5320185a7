"""Engines asked in order: who answers where one fails, and what the record says."""

import unittest

from fond_echo.connectors.breaker import Breaker
from fond_echo.core.recognition.transcript import Expected
from fond_echo.engines.cached import CachedSynthesizer, SpokenCache
from fond_echo.engines.chosen import ChosenRecognizer, ChosenSynthesizer
from fond_echo.engines.errors import AllEnginesFailed
from fond_echo.engines.registry import Engines, Wanted
from tests.support.engines import Built, Gannet, said

NOTHING = Engines("here", ())


class Order(unittest.IsolatedAsyncioTestCase):
    def setUp(self):
        self.gannet = Gannet()

    async def hear(self, order, language="en"):
        ear = ChosenRecognizer(NOTHING, Wanted(), order)
        return await ear.transcribe(said("Yes, please."), Expected(), language=language, long=False)

    async def test_the_first_that_works_answers(self):
        order = self.gannet.order("transcribe", "far-ear", "built-in", built_in=Built())
        self.assertIn("please", (await self.hear(order)).spoken)
        (asked,) = order.taken()
        self.assertEqual((asked.engine, asked.outcome), ("far-ear", "done"))
        self.assertGreater(asked.cost, 0)
        self.assertEqual(asked.exchanges[0]["status"], 200)
        self.assertEqual(order.taken(), [])

    async def test_whatever_fails_gives_way_and_the_record_says_why(self):
        for fault, why in (("busy", "429"), ("broken", "500"), ("garbage", "not JSON"),
                           ("cut", "broke|JSON"), ("wrong-type", "nothing at")):  # fmt: skip
            with self.subTest(fault=fault):
                await self.gannet.fault("/hearing", fault, 1)
                order = self.gannet.order("transcribe", "far-ear", "built-in", built_in=Built())
                self.assertEqual((await self.hear(order)).written, "By ourselves.")
                first, second = order.taken()
                self.assertEqual((first.outcome, second.outcome), ("failed", "done"))
                self.assertRegex(first.why, why)

    async def test_one_that_takes_too_long(self):
        await self.gannet.fault("/hearing", "slow")
        order = self.gannet.order("transcribe", "far-ear", "built-in", built_in=Built())
        slow = self.gannet.engine("far-ear", ("timeout: 6s", "timeout: 200ms"))
        order.connected["far-ear"] = type(order.connected["far-ear"])(slow, Breaker())
        await self.hear(order)
        self.assertEqual(order.taken()[0].why, "no answer in time")

    async def test_after_five_failures_it_is_left_alone_and_then_tried_again(self):
        await self.gannet.fault("/hearing", "broken", 5)
        order = self.gannet.order("transcribe", "far-ear", "built-in", built_in=Built())
        for _ in range(6):
            await self.hear(order)
        outcomes = [each.outcome for each in order.taken() if each.engine == "far-ear"]
        self.assertEqual(outcomes, ["failed"] * 5 + ["paused"])
        order.connected["far-ear"].breaker.until = 0.0
        self.assertIn("please", (await self.hear(order)).spoken)

    async def test_retry_after_is_kept(self):
        await self.gannet.fault("/hearing", "busy", 1)
        order = self.gannet.order("transcribe", "far-ear", "built-in", built_in=Built())
        await self.hear(order)
        self.assertAlmostEqual(order.connected["far-ear"].breaker.left, 7.0, delta=1.0)
        await self.hear(order)
        self.assertEqual(order.taken()[2].outcome, "paused")

    async def test_over_budget_wrong_kind_wrong_language_and_no_such_engine(self):
        order = self.gannet.order(
            "transcribe", "far-ear", "far-voice", "nobody", "built-in", built_in=None, far_ear=2.0
        )
        with self.assertRaisesRegex(AllEnginesFailed, "cost what it may"):
            await self.hear(order)
        why = {each.engine: each.why for each in order.taken()}
        self.assertIn("cannot transcribe", why["far-voice"])
        self.assertIn("no engine 'nobody'", why["nobody"])

    async def test_what_another_said_in_its_place_is_not_kept_for_when_it_works_again(self):
        kept = SpokenCache()

        async def speak():
            order = self.gannet.order("speak", "far-voice", "built-in", built_in=Built())
            mouth = ChosenSynthesizer(NOTHING, Wanted(), order)
            cached = CachedSynthesizer(
                mouth, kept, order.files("speak"), lambda: order.first_answered
            )
            parts = [part.text async for part in cached.speak("Good day.", "tern", seed=1)]
            return parts, [each.engine for each in order.taken()]

        await self.gannet.fault("/utterance", "broken")
        self.assertEqual((await speak())[1], ["far-voice", "built-in"])
        await self.gannet.fault("/utterance", None)
        self.assertEqual(await speak(), (["Good day."], ["far-voice"]))
        self.assertEqual(await speak(), (["Good day."], []), "said before, and not paid again")

    async def test_where_speech_breaks_off_the_next_says_the_rest(self):
        order = self.gannet.order("speak", "far-voice", "built-in", built_in=Built())
        mouth = ChosenSynthesizer(NOTHING, Wanted(), order)
        said_parts = []
        async for part in mouth.speak(
            "The boat is late. It sails at ten. Good day.", "tern", seed=1
        ):
            said_parts.append(part.text)
            if len(said_parts) == 1:
                await self.gannet.fault("/utterance", "broken")
        self.assertEqual(said_parts[0], "The boat is late.")
        self.assertEqual(
            " ".join(said_parts[1:]).lower().replace(".", ""), "it sails at ten good day"
        )
        self.assertEqual([each.outcome for each in order.taken()], ["failed", "done"])


if __name__ == "__main__":
    unittest.main()
