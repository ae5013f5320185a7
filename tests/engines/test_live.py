"""Hearing while somebody speaks, and two readings of the same sound."""

import asyncio
import unittest
from types import SimpleNamespace

from fond_echo.connectors.errors import ConnectorError, WrongAnswer
from fond_echo.contract.turn import Heard
from fond_echo.core.dialogue.free import FreeQuestion
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.engine import read_engine
from fond_echo.documents.errors import InvalidFile
from fond_echo.engines.chosen import ChosenRecognizer
from fond_echo.engines.described import Asking
from fond_echo.engines.live import LiveHearing, in_stretches, recognizer_of
from fond_echo.engines.registry import Wanted
from tests.support.engines import engine_file, gannet_on_loopback, said

QUESTION = "When does the next boat sail?"


def heard(text, source="dictation"):
    return Heard(spoken=text.lower(), written=text, confidence=0.8, source=source)


class Live(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        self.gannet = await self.enterAsyncContext(gannet_on_loopback())
        self.clip = await asyncio.to_thread(said, QUESTION)

    def hearing(self, order):
        found = order.live("en")
        self.assertIsNotNone(found)
        return LiveHearing(*found, order, Expected(), "en")

    async def test_words_come_while_somebody_speaks(self):
        order = self.gannet.order("transcribe", "quick-ear", "built-in")
        hearing = self.hearing(order)
        stretches = [each async for each in in_stretches(self.clip, 0.1)]
        for each in stretches[:-3]:
            hearing.feed(each)
            await asyncio.sleep(0.05)
        for _ in range(200):
            if hearing.words:
                break
            await asyncio.sleep(0.05)
        self.assertTrue(QUESTION.lower().startswith(hearing.words.split()[0]), hearing.words)
        found = await hearing.finish(self.clip)
        self.assertIn("the next boat", found.spoken)
        self.assertTrue(found.partials)
        (asked,) = hearing.asked()
        self.assertEqual((asked.engine, asked.outcome), ("quick-ear", "done"))
        # All of it was sent, the stretches that were not fed too.
        self.assertAlmostEqual(asked.cost, 0.008 * self.clip.seconds / 60, delta=0.0002)
        self.assertIn("s of sound", asked.exchanges[0]["sent"])
        self.assertEqual(asked.exchanges[0]["status"], 101)

    async def test_a_socket_that_is_not_opened_is_told_and_counted(self):
        await self.gannet.fault("/hearing/live", "broken")
        order = self.gannet.order("transcribe", "quick-ear", "built-in")
        hearing = self.hearing(order)
        hearing.feed(self.clip)
        with self.assertRaises(ConnectorError):
            await hearing.finish(self.clip)
        (asked,) = hearing.asked()
        self.assertEqual((asked.outcome, asked.exchanges[0]["status"]), ("failed", None))
        self.assertTrue(asked.exchanges[0]["error"])

    async def test_without_other_requests_it_hears_voice_notes_in_the_same_way(self):
        engine, asking = self.gannet.engine("quick-ear"), Asking()
        found = await recognizer_of(engine, asking).transcribe(
            self.clip, Expected(), language="en", long=False
        )
        self.assertIn("the next boat", found.spoken)

    async def test_one_that_stops_before_its_last_message_failed(self):
        engine = self.gannet.engine("quick-ear", ("stage == 'finished'", "stage == 'never'"))
        with self.assertRaisesRegex(WrongAnswer, "closed before all was heard"):
            await recognizer_of(engine, Asking()).transcribe(
                self.clip, Expected(), language="en", long=False
            )

    async def test_only_the_first_engine_can_hear_a_call_live(self):
        order = self.gannet.order("transcribe", "far-ear", "quick-ear")
        self.assertIsNone(order.live("en"))
        self.assertIsNone(self.gannet.order("transcribe", "built-in").live("en"))

    async def test_an_answer_over_a_socket(self):
        engine, sentences = self.gannet.engine("harbour-wire"), []

        async def hear(sentence):
            sentences.append(sentence)

        passages = [{"source": "handbook/dogs.md", "text": "Dogs sail free. They stay on deck."}]
        question = FreeQuestion("Do dogs sail?", "Two sentences.", "en", passages=passages)
        found = await engine.answer(question, asking=Asking(), heard=hear)
        self.assertIn("Dogs sail free.", found.text)
        self.assertTrue(sentences)


class TwoReadings(unittest.IsolatedAsyncioTestCase):
    """What is gone by where two engines read the same sound."""

    async def asyncSetUp(self):
        self.gannet = await self.enterAsyncContext(gannet_on_loopback())

    async def read(self, theirs, ours, phrases=("How much is a ticket?",)):
        order = self.gannet.order("transcribe", "far-ear")
        order.second = True

        class One:
            def __init__(self, answer):
                self.answer = answer

            async def transcribe(self, clip, expected, **_):
                if isinstance(self.answer, Exception):
                    raise self.answer
                return self.answer

        async def first(kind, language, ask, **_):
            answer = await One(theirs).transcribe(None, None)
            order.asked.append(SimpleNamespace(engine="far-ear", outcome="done"))
            return answer

        order.first = first
        engines = SimpleNamespace(find=lambda *_: [One(ours)])
        recognizer = ChosenRecognizer(engines, Wanted(), order)
        clip = SimpleNamespace(seconds=1.0)
        return await recognizer.transcribe(clip, Expected(phrases), language="en", long=False)

    async def test_ours_is_used_where_it_alone_is_one_of_what_was_expected(self):
        found = await self.read(
            heard("How much is a thicket"), heard("How much is a ticket?", "expected")
        )
        self.assertEqual(found.written, "How much is a ticket?")
        self.assertEqual([(each.engine, each.used) for each in found.readings],
                         [("far-ear", False), ("built-in", True)])  # fmt: skip

    async def test_theirs_is_used_where_it_fits_or_ours_does_not(self):
        both = heard("how much is a ticket"), heard("When does it sail?", "expected")
        self.assertEqual((await self.read(*both)).spoken, "how much is a ticket")
        found = await self.read(heard("Do you carry goats"), heard("do you carry boats"))
        self.assertEqual(found.written, "Do you carry goats")
        self.assertEqual([each.expected for each in found.readings], [False, False])

    async def test_one_that_fails_leaves_the_other(self):
        wrong = FondEchoError("gone")
        ours = heard("How much is a ticket?", "expected")
        self.assertEqual((await self.read(wrong, ours)).written, ours.written)
        self.assertEqual((await self.read(heard("Goats"), wrong)).written, "Goats")
        with self.assertRaises(FondEchoError):
            await self.read(wrong, wrong)


class Files(unittest.TestCase):
    def test_what_a_live_engine_may_say(self):
        text = engine_file("quick-ear")
        self.assertEqual(read_engine(text, "x.yaml").secrets(), {"gannet-pass"})
        for old, new, what in (
            ("does: transcribe", "does: answer", "live is for an engine that does transcribe"),
            ("{{ language }}", "{{ tongue }}", "nothing fills in {{ tongue }} here"),
            ("last: over", "last: '{{ sound }}'", "nothing fills in {{ sound }} here"),
        ):
            with self.subTest(what), self.assertRaises(InvalidFile) as raised:
                read_engine(text.replace(old, new), "x.yaml")
            self.assertIn(what, str(raised.exception))
        with self.assertRaisesRegex(InvalidFile, "or live"):
            read_engine("engine: some-ear\ndoes: transcribe\nresult: {text: x}\n", "x.yaml")
