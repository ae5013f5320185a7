"""Cases of free answers: what the engine gave is kept in the file, and what must come of it."""

import unittest

from fond_echo.documents.case import CaseFile
from fond_echo.documents.reading import read_assistant
from fond_echo.replays.cases import run_case
from fond_echo.replays.nothing_outside import NoLogic

DESK = """\
assistant: small-desk
voice: tern
brief: You are the ferry desk.
grammar: names.abnf
engines: {answer: [any-mind]}
logic:
  timetable: {url: "http://127.0.0.1:1/logic", key: {secret: mark}}
  office:
    url: "http://127.0.0.1:1/office"
    request: {q: "{{ text }}"}
    answer: "$.says"
    gives: {route: "$.intent", slots: "$.with"}
routes:
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: "A crossing is four pounds."}
  - route: sailing
    examples: [When is the boat?]
    slots: {island: {rule: island, ask: Which island?}}
    reply: {text: "The boat to {{ slots.island }} sails at ten."}
  - route: office
    examples: [Put me through to the office]
    reply: {logic: office.question, safe: true}
fallback:
  reply:
    free: true
    functions:
      timetable.next:
        about: when the next boat sails
        arguments: {island: {about: where to}}
"""
RULES = "#ABNF 1.0;\n$island = Brannick {Brannick} | Pell {Pell};\n"
CALLED = {"calls": [{"name": "timetable.next", "arguments": {"island": "Pell"}}]}
KEPT = {"asks": "timetable.next", "slots": {"island": "Pell"}, "answers": [{"text": "at 10:40"}]}


class FreeCases(unittest.IsolatedAsyncioTestCase):
    async def run_with(self, said="Is there a boat I can catch to Pell soon", **fields):
        case = CaseFile.model_validate({"case": "free", "said": said, **fields})
        assistant = read_assistant({"assistant.yaml": DESK, "names.abnf": RULES})
        return await run_case(case, assistant, "free" * 16, NoLogic())

    async def test_what_the_engine_gave_is_answered_and_its_functions_have_their_kept_results(self):
        expect = {
            "contains": ["10:40"], "lacks": ["tomorrow"], "calls": ["timetable.next"],
            "words_at_most": 12, "verdicts": ["answers"], "language": "en",
        }  # fmt: skip
        engine = [CALLED, {"text": "The next boat to Pell sails at 10:40."}]
        found = await self.run_with(engine=engine, logic=[KEPT], expect=expect)
        self.assertEqual(found.failures, [])
        self.assertEqual([each.engine for each in found.form.asked], ["timetable.next"])

    async def test_what_does_not_hold_is_said(self):
        for text, expect, failure in (
            ("It sails at 10:45.", {"verdicts": ["answers"]},
             "the verdict is not answers (unsupported: the number 45 stands in no source)"),
            ("It sails at 10:40, and you should be there early.", {"words_at_most": 4},
             "the text has 10 words, not at most 4"),
            ("It sails at 10:40.", {"calls": ["none"]}, "timetable.next was called"),
            ("Das Schiff fährt um 10:40 und es ist nicht weit von hier.", {"language": "en"},
             "the text is in the language de, not en"),
        ):  # fmt: skip
            with self.subTest(failure):
                engine = [CALLED, {"text": text}]
                found = await self.run_with(engine=engine, logic=[KEPT], expect=expect)
                self.assertEqual(found.failures, [failure])
        engine = [{"text": "At 10:40."}]
        found = await self.run_with(engine=engine, expect={"calls": ["timetable.next"]})
        self.assertEqual(found.failures, ["timetable.next was not called"])

    async def test_too_few_and_too_many_answers(self):
        found = await self.run_with(engine=[CALLED], logic=[KEPT], expect={"contains": ["10:40"]})
        self.assertIn("the case keeps 1 answers of the engine", found.failures[-1])
        engine = [{"text": "At 10:40."}, {"text": "At noon."}]
        found = await self.run_with(engine=engine, expect={"contains": ["10:40"]})
        self.assertEqual(found.failures, ["1 kept answers of the engine were not asked for"])

    async def test_a_route_that_it_chose_goes_on_with_the_turn(self):
        engine = [{"route": "sailing", "slots": {"island": "Pell"}}]
        expect = {"route": "sailing", "contains": ["The boat to Pell sails at ten."]}
        found = await self.run_with(engine=engine, expect=expect)
        self.assertEqual(found.failures, [])

    async def test_business_logic_by_its_address_alone_may_name_a_route(self):
        for received, expect, failures in (
            ({"intent": "sailing", "with": {"island": "brannick"}},
             {"route": "sailing", "contains": ["The boat to Brannick sails at ten."]}, []),
            ({"intent": "sailing"}, {"outcome": "ask", "contains": ["Which island?"]}, []),
            ({"says": "One moment.", "intent": "fares"},
             {"contains": ["One moment.", "four pounds"]}, []),
            ({"intent": "moon"}, {"lacks": ["x"]},
             ["the answer names the route 'moon', which the assistant has not"]),
            ({"intent": "office"}, {"lacks": ["x"]},
             ["3 answers led from route to route, and office would be the next"]),
        ):  # fmt: skip
            with self.subTest(received):
                kept = [{"asks": "office.question", "received": received}]
                said = "Put me through to the office"
                found = await self.run_with(said, logic=kept, expect=expect)
                self.assertEqual([each.partition(" (")[0] for each in found.failures], failures)

    def test_what_cannot_be_kept(self):
        for kept, what in (
            ({}, "one of text, calls and route"),
            ({"text": "x", "route": "fares"}, "one of text, calls and route"),
            ({"text": "x", "slots": {"a": 1}}, "slots go with route"),
            ({"route": "fares", "then": "end"}, "go with text"),
            ({"text": "x", "to": "+44"}, "to goes with then: transfer"),
        ):
            with self.subTest(kept), self.assertRaisesRegex(ValueError, what):
                CaseFile.model_validate(
                    {"case": "x", "said": "y", "engine": [kept], "expect": {"route": "z"}}
                )
