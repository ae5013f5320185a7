"""Engines by connector file, against the provider that ships with it."""

import unittest

import numpy as np

from fond_echo.connectors.errors import ConnectorError, WrongAnswer
from fond_echo.core.audio.clip import join, silence
from fond_echo.core.audio.level import loudness
from fond_echo.core.dialogue.free import FreeQuestion, in_window
from fond_echo.core.dialogue.functions import Argument, Function
from fond_echo.core.recognition.transcript import Expected
from fond_echo.engines.described import Asking
from tests.support.engines import Gannet, said

QUESTION = "When is the next boat to Brannick?"
EXPECTED = Expected(hints=("Brannick", "boat"))
PASSAGES = [
    {"source": "Handbook › Dogs", "text": "Dogs travel free of charge. They stay on deck. Cats do not."},
    {"source": "Handbook › Bicycles", "text": "A bicycle place costs two pounds. Book it a day before."},
]  # fmt: skip
SAILING = Function(
    "timetable.next-sailing", "when the next boat to an island sails",
    {"island": Argument("text", "where to", True, ("Pell", "Brannick"))},
)  # fmt: skip


class Hearing(unittest.IsolatedAsyncioTestCase):
    async def hear(self, name, clip, *changes, gannet=None):
        asking = Asking()
        engine = (gannet or Gannet()).engine(name, *changes)
        return await engine.transcribe(clip, EXPECTED, language="en", asking=asking), asking

    async def test_at_once_and_by_asking_again(self):
        what = "How much is a ticket?"
        for name, calls in (("far-ear", 1), ("slow-ear", 2)):
            with self.subTest(engine=name):
                heard, asking = await self.hear(name, said(what))
                self.assertEqual(heard.written.rstrip("?."), what.rstrip("?"))
                self.assertEqual(heard.spoken, what.rstrip("?").lower())
                self.assertGreater(asking.cost, 0)
                self.assertGreaterEqual(len(asking.exchanges), calls)
                self.assertNotIn("a-word-that", str([vars(each) for each in asking.exchanges]))

    async def test_it_is_told_what_may_be_said(self):
        heard, _ = await self.hear("far-ear", said(QUESTION))
        self.assertIn("brannick", heard.spoken)

    async def test_errors_of_the_engine_are_its_own(self):
        heard, _ = await self.hear("far-ear", said(QUESTION), gannet=Gannet(wrong=1.0))
        self.assertIn("two brannick", heard.spoken)

    async def test_long_sound_is_cut_at_pauses_and_its_times_fit(self):
        clip = join([said("How much is a ticket?"), silence(2.0, 16_000), said("I lost my umbrella."),
                     silence(2.0, 16_000), said("What boats are there today?")])  # fmt: skip
        heard, asking = await self.hear("far-ear", clip, ("seconds: 60", "seconds: 5"))
        self.assertGreaterEqual(len(asking.exchanges), 2)
        self.assertIn("umbrella", heard.written)
        starts = [each.start for each in heard.segments]
        self.assertEqual(starts, sorted(starts))
        self.assertGreater(starts[-1], 5.0)
        self.assertLessEqual(heard.segments[-1].end, clip.seconds + 0.1)

    async def test_silence_is_nothing(self):
        heard, _ = await self.hear("far-ear", silence(1.0, 16_000))
        self.assertEqual((heard.source, heard.written), ("nothing", ""))

    async def test_every_fault_is_told(self):
        for fault, what in (
            ("busy", "429"), ("broken", "500"), ("garbage", "not JSON"), ("empty", "not JSON"),
            ("wrong-type", "nothing at"), ("truncated", "not JSON|broke|cut"),
        ):  # fmt: skip
            with self.subTest(fault=fault):
                gannet = Gannet()
                await gannet.fault("/hearing", fault)
                with self.assertRaisesRegex(ConnectorError, what):
                    await self.hear("far-ear", said("Yes."), gannet=gannet)


class Speaking(unittest.IsolatedAsyncioTestCase):
    async def speak(self, name, text, *changes, voice="dunlin", gannet=None):
        asking = Asking()
        engine = (gannet or Gannet()).engine(name, *changes)
        parts = [p async for p in engine.speak(text, voice, language="en", asking=asking)]
        return parts, asking

    async def test_bytes_and_base64_come_as_our_speech(self):
        for name in ("far-voice", "packed-voice"):
            with self.subTest(engine=name):
                parts, asking = await self.speak(name, "The boat is late. Tea is at No. 4.")
                self.assertEqual(
                    [each.text for each in parts], ["The boat is late.", "Tea is at No. 4."]
                )
                for each in parts:
                    self.assertEqual(each.clip.rate, 16_000)
                    self.assertAlmostEqual(loudness(each.clip), -19, delta=4)
                    edge = np.abs(each.clip.samples[:400]).max()
                    self.assertLess(edge, 0.3, "begins softly")
                self.assertEqual(len(asking.exchanges), 2)
                self.assertGreater(asking.cost, 0)

    async def test_a_sentence_longer_than_it_takes_is_cut_between_words(self):
        text = "one two three four five six seven eight nine ten eleven twelve thirteen"
        parts, _ = await self.speak("far-voice", text, ("characters: 500", "characters: 50"))
        self.assertEqual(" ".join(each.text for each in parts), text)
        self.assertLessEqual(max(len(each.text) for each in parts), 50)

    async def test_sound_that_is_none(self):
        for fault, what in (("garbage", "is not sound"), ("empty", "no sound")):
            with self.subTest(fault=fault):
                gannet = Gannet()
                await gannet.fault("/utterance", fault)
                with self.assertRaisesRegex(WrongAnswer, what):
                    await self.speak("far-voice", "Hello.", gannet=gannet)


class Answering(unittest.IsolatedAsyncioTestCase):
    async def answer(self, text, *changes, **fields):
        asking = Asking()
        engine = Gannet().engine("harbour-mind", *changes)
        question = FreeQuestion(text, "The harbour desk. Two sentences.", "en", **fields)
        return await engine.answer(question, asking=asking), asking

    async def test_from_documents_with_a_source(self):
        found, asking = await self.answer("Can my dog come along?", passages=PASSAGES)
        self.assertEqual(found.text, "Dogs travel free of charge. They stay on deck.")
        self.assertEqual([each.title for each in found.sources], ["Handbook › Dogs"])
        self.assertGreater(asking.cost, 0)
        found, _ = await self.answer("What does a bicycle cost?", passages=PASSAGES)
        self.assertIn("two pounds", found.text)

    async def test_from_memory_and_from_what_was_said_before(self):
        found, _ = await self.answer("What is my cabin?", memory={"cabin": "number 9"})
        self.assertEqual(found.text, "Your cabin is number 9.")
        before = [{"who": "person", "text": "Tell me about dogs."}]
        found, _ = await self.answer("And where?", passages=PASSAGES, turns=before)
        self.assertIn("deck", found.text)

    async def test_a_function_is_wanted_and_its_result_used(self):
        found, _ = await self.answer("When does the next boat to Pell sail?", functions=[SAILING])
        (wish,) = found.wishes
        self.assertEqual((wish.name, wish.arguments), (SAILING.name, {"island": "Pell"}))
        call = {"id": wish.id, "name": wish.name, "arguments": wish.arguments, "result": "At ten."}
        found, _ = await self.answer("When?", functions=[SAILING], calls=(call,))
        self.assertEqual(found.text, "At ten.")

    async def test_an_answer_that_is_too_long_ends_with_a_sentence(self):
        engine = Gannet().engine("harbour-mind", ("characters: 600", "characters: 60"))
        text = (
            "Dogs travel free. They stay on the open deck. Two at most sail on the Old Dunlin. Yes."
        )
        self.assertEqual(
            engine._fitting(text, "en"), "Dogs travel free. They stay on the open deck."
        )

    async def test_a_streamed_answer_is_heard_sentence_by_sentence(self):
        gannet, heard = Gannet(), []

        async def keep(sentence):
            heard.append(sentence)

        question = FreeQuestion(
            text="Do dogs cost a charge on deck?", brief="", language="en", passages=PASSAGES
        )
        for form in ("events", "lines"):
            heard.clear()
            engine = gannet.engine("harbour-mind", ("as: events", f"as: {form}"),
                                   ('most: "{{ characters }}"', f'most: "{{{{ characters }}}}"\n      as: {form}'))  # fmt: skip
            answer = await engine.answer(question, asking=Asking(), heard=keep)
            self.assertEqual(answer.text, "Dogs travel free of charge. They stay on deck.")
            self.assertEqual(heard, ["Dogs travel free of charge."])
        await gannet.fault("/thoughts/aloud", "truncated")
        asking = Asking()
        with self.assertRaisesRegex(WrongAnswer, "stops before|not JSON"):
            await gannet.engine("harbour-mind").answer(question, asking=asking, heard=keep)
        self.assertEqual(asking.exchanges[0].status, 200)

    async def test_an_answer_in_another_language_is_none(self):
        german = [{"source": "handbook/hunde.md › Hunde", "text":
                   "Hunde fahren kostenlos mit. Sie bleiben an Deck und werden an der Leine"
                   " gehalten."}]  # fmt: skip
        with self.assertRaisesRegex(WrongAnswer, "in the language de, not en"):
            await self.answer("Do Hunde fahren kostenlos?", passages=german)

    async def test_what_does_not_fit_its_window_is_left_out_and_never_the_words(self):
        turns = [{"who": "person", "text": f"turn {n} " * 20} for n in range(4)]
        passages = [{"source": "a", "text": "Dogs travel free. " * 10}]
        question = FreeQuestion("Can my dog come?", "Brief.", "en", turns, passages)
        fits = sum(len(each["text"]) for each in (*turns, *passages)) + 50
        self.assertEqual(in_window(question, turns, fits), (turns, passages))
        self.assertEqual(in_window(question, turns, fits - 60)[0], turns[1:])
        found, kept = in_window(question, turns, 200)
        self.assertEqual((found, kept), ([], []))
        self.assertEqual(in_window(question, turns, 10), ([], None))
        with self.assertRaisesRegex(WrongAnswer, "longer than its window"):
            await self.answer("x" * 600, ("turns: 6", "turns: 6, window: 500"))

    async def test_a_cut_off_answer_is_never_given(self):
        with self.assertRaisesRegex(WrongAnswer, "before its end"):
            await self.answer("Dogs?", ("characters: 600", "characters: 50"), passages=[
                {"source": "Dogs", "text": "Dogs and other animals of any size at all travel on the open deck only."}
            ])  # fmt: skip


if __name__ == "__main__":
    unittest.main()
