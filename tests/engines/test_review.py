"""A second opinion on answers, by an engine that reviews."""

from __future__ import annotations

import unittest

from fond_echo.connectors.breaker import Breaker
from fond_echo.contract.reply import AnswerVerdict
from fond_echo.core.dialogue.free import FreeAnswer
from fond_echo.documents.engine import read_engine
from fond_echo.documents.errors import InvalidFile
from fond_echo.engines.chosen import ChosenHelper
from fond_echo.engines.errors import AllEnginesFailed
from fond_echo.engines.order import Connected, EngineOrder
from tests.engines.test_led import DESK, Leading
from tests.support.engines import Gannet, engine_file


class Reviews(unittest.IsolatedAsyncioTestCase):
    def helper(self, *changes: tuple[str, str]) -> ChosenHelper:
        engine = Gannet().engine("second-look", *changes)
        connected = {"second-look": Connected(engine, Breaker())}
        return ChosenHelper(EngineOrder({"review": ["second-look"]}, connected))

    async def reviewed(self, answer: str, *changes: tuple[str, str]) -> AnswerVerdict:
        first = AnswerVerdict(kind="answers")
        return await self.helper(*changes).review("when", answer, ["At ten."], first, "en", 0.9)

    async def test_it_agrees_or_says_why_not(self) -> None:
        found = await self.reviewed("At ten.")
        self.assertEqual((found.kind, found.by), ("answers", "second-look"))
        found = await self.reviewed("Perhaps at ten.")
        self.assertEqual((found.kind, found.reason), ("evades", "it says 'perhaps'"))

    async def test_another_word_than_a_verdict_is_a_failure(self) -> None:
        with self.assertRaisesRegex(AllEnginesFailed, "its verdict is 'splendid'"):
            await self.reviewed("At ten.", ('"{{ seen }}"', "splendid"))

    def test_a_reviewer_needs_a_verdict_and_the_answer(self) -> None:
        text = engine_file("second-look")
        for old, new, why in (
            ('verdict: "{{ seen }}", ', "", "need it"),
            ('given: "{{ answer }}"', "given: x", "never uses {{ answer }}"),
            ("does: review", "does: summarize", "verdict is for engines that review"),
        ):
            with self.assertRaises(InvalidFile) as caught:
                read_engine(text.replace(old, new), "x.yaml")
            self.assertIn(why, str(caught.exception))


class Looking:
    """A helper that reviews as it is told."""

    def __init__(self, kind: str) -> None:
        self.kind, self.sources = kind, [""]

    def can(self, kind: str) -> bool:
        return kind == "review"

    async def review(self, question, answer, sources, first, language, confidence):  # type: ignore[no-untyped-def]
        self.sources = sources
        if self.kind == "broken":
            raise AllEnginesFailed("it is away")
        return AnswerVerdict(kind=self.kind, reason="so it says", by="second-look")


class InATurn(Leading):
    assistant = DESK.replace("    transfers:", "    bad_answers: ask-again\n    transfers:")

    async def judged(self, kind):
        self.world.helps = Looking(kind)
        self.script(FreeAnswer("At ten."))
        turn_id, text = await self.ask("and when will it all go then")
        return text, (await self.output(turn_id, "answer"))["verdict"]

    async def test_its_word_counts_and_where_it_is_away_that_of_words_alone(self):
        text, verdict = await self.judged("evades")
        self.assertEqual((text, verdict["by"]), ("I don't know that.", "second-look"))
        text, verdict = await self.judged("broken")
        self.assertEqual((text, verdict["by"], verdict["kind"]), ("At ten.", "words", "answers"))
