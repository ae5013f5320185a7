"""What an assistant sets of an engine: declared in its connector file, checked, and sent."""

from __future__ import annotations

import unittest
from typing import Any

from fond_echo.connectors.breaker import Breaker
from fond_echo.core.dialogue.free import FreeQuestion
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.engine import read_engine
from fond_echo.documents.errors import InvalidFile
from fond_echo.engines.chosen import ChosenAnswerer
from fond_echo.engines.described import Asking
from fond_echo.engines.errors import AllEnginesFailed
from fond_echo.engines.order import Connected, EngineOrder
from tests.support.engines import Gannet, engine_file

DECLARED = """\
parameters:
  temperature: {kind: number, default: 0.7, least: 0, most: 1}
  max_words: {kind: whole, default: 300, least: 10, most: 2000}
  tone: {default: plain, one_of: [plain, warm]}
"""


SENT = '      most: "{{ characters }}"\n'
CHANGES = (
    (SENT, f'{SENT}      heat: "{{{{ temperature }}}}"\n      tone: "{{{{ tone }}}}"\n'),
    ("price:", f"{DECLARED}price:"),
)


class Parameters(unittest.IsolatedAsyncioTestCase):
    async def asked(self, parameters: dict[str, Any]) -> tuple[EngineOrder, Any]:
        engine = Gannet().engine("harbour-mind", *CHANGES)
        order = EngineOrder(
            {"answer": ["harbour-mind"]},
            {"harbour-mind": Connected(engine, Breaker())},
            parameters={"harbour-mind": parameters},
        )
        question = FreeQuestion("my boat is called Seagull", "You are the desk.", "en")
        return order, await ChosenAnswerer(order).answer(question)

    async def sent(self, parameters: dict[str, Any]) -> dict[str, Any]:
        order, _ = await self.asked(parameters)
        (asked,) = order.taken()
        found: dict[str, Any] = asked.exchanges[0]["sent"]
        return found

    async def test_what_is_set_is_sent_and_what_is_not_is_as_declared(self) -> None:
        sent = await self.sent({"temperature": 0.2})
        self.assertIn("0.2", str(sent))
        self.assertIn("plain", str(sent))

    async def test_what_it_has_not_or_is_out_of_bounds_fails_and_says_what_it_has(self) -> None:
        for parameters, why in (
            ({"heat": 0.2}, "no parameter 'heat'"),
            ({"temperature": 1.4}, "at most 1"),
            ({"max_words": 20.5}, "not a whole number"),
            ({"tone": "cold"}, "one of plain, warm"),
        ):
            with self.assertRaises(AllEnginesFailed) as caught:
                await self.asked(parameters)
            self.assertIn(why, str(caught.exception))

    def test_a_connector_that_cannot_mean_it_is_refused(self) -> None:
        for more, why in (
            ("parameters: {text: {default: a}}\n", "told already"),
            ("parameters: {heat: {kind: number, default: 3, most: 1}}\n", "at most 1"),
            ("parameters: {heat: {kind: whole, default: a}}\n", "whole number"),
        ):
            with self.assertRaises(InvalidFile) as caught:
                read_engine(
                    engine_file("harbour-mind").replace("price:", f"{more}price:"), "x.yaml"
                )
            self.assertIn(why, str(caught.exception))

    def test_an_assistant_names_engines_with_and_without(self) -> None:
        assistant = AssistantFile.model_validate(
            {
                "assistant": "desk",
                "fallback": {"reply": {"free": True}},
                "engines": {
                    "answer": [
                        {"engine": "harbour-mind", "parameters": {"temperature": 0.2}},
                        "spare-mind",
                    ]
                },
            }
        )
        self.assertEqual(assistant.engines.of(), {"answer": ["harbour-mind", "spare-mind"]})
        self.assertEqual(assistant.engines.parameters(), {"harbour-mind": {"temperature": 0.2}})
        self.assertEqual(Asking().parameters, {})
