"""Cases that say how the reply must sound."""

import unittest

import numpy as np

from fond_echo.cli.replaying import run_here
from fond_echo.core.audio.clip import Clip
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.case import CaseFile, read_cases
from fond_echo.documents.reading import read_assistant
from fond_echo.replays.cases import Aloud, run_case
from tests.support.world import MemoryLogic

DESK = """\
assistant: small-desk
voice: tern
routes:
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: "A crossing is four pounds."}
fallback:
  reply: {text: I know about fares.}
"""
CASE = """\
case: ticket
said: How much is a ticket?
expect: {route: fares, spoken_at_most: 6s, voice_note: true, heard_as: [four pounds]}
"""


ASKING = """\
assistant: small-desk
voice: tern
routes:
  - route: sailing
    examples: ["When is the boat to {island}?"]
    slots: {island: {kind: text, ask: "Which island?"}}
    reply: {logic: timetable.next, safe: false}
logic:
  timetable: {url: "http://127.0.0.1:9/timetable", key: {secret: timetable-mark}}
fallback:
  reply: {text: I know about boats.}
"""


class Asking(unittest.IsolatedAsyncioTestCase):
    """Cases that say what business logic is asked, and with what."""

    async def failures(self, **expect):
        case = CaseFile.model_validate(
            {
                "case": "boat",
                "said": "When is the boat to Pell?",
                "logic": [{"asks": "timetable.next", "answers": [{"text": "At noon."}]}],
                "expect": expect,
            }
        )
        assistant = read_assistant({"assistant.yaml": ASKING})
        return (await run_case(case, assistant, "case" * 16, MemoryLogic())).failures

    async def test_with_what(self):
        asked = {"asks": "timetable.next", "asks_with": {"island": "Pell"}}
        self.assertEqual(await self.failures(**asked), [])
        self.assertEqual(
            await self.failures(asks_with={"island": "Tern Rock"}),
            ["business logic was asked with island 'Pell', not 'Tern Rock'"],
        )
        self.assertEqual(await self.failures(asks="none"), ["timetable.next was asked"])
        self.assertEqual(
            await self.failures(asks="timetable.last"), ["timetable.last was not asked"]
        )


class Sounding(unittest.IsolatedAsyncioTestCase):
    async def run_with(self, seconds=1.0, heard="a crossing is four pounds", fails=False, **expect):
        async def speak(text, assistant):
            if fails:
                raise FondEchoError("no voice")
            self.said = text
            times = np.arange(int(16_000 * seconds)) / 16_000
            return Clip((0.2 * np.sin(2_000 * times)).astype(np.float32), 16_000)

        async def hear(clip, language):
            return heard

        expected = {
            "spoken_at_most": "2s",
            "voice_note": True,
            "heard_as": ["four pounds"],
            **expect,
        }
        case = CaseFile.model_validate(
            {"case": "ticket", "said": "How much is a ticket?", "expect": expected}
        )
        assistant = read_assistant({"assistant.yaml": DESK})
        return await run_case(case, assistant, "said" * 16, MemoryLogic(), None, Aloud(speak, hear))

    async def test_what_holds(self):
        found = await self.run_with()
        self.assertEqual((found.passed, found.failures), (True, []))
        self.assertEqual(self.said, "A crossing is four pounds.")

    async def test_too_long_or_words_that_do_not_come_back(self):
        found = await self.run_with(seconds=3.0, heard="a crossing is for hounds")
        self.assertEqual(
            found.failures,
            ["it is spoken for 3.0 s, not 2",
             "'four pounds' does not come back: 'a crossing is for hounds'"],
        )  # fmt: skip

    async def test_a_part_of_another_word_is_not_it(self):
        found = await self.run_with(heard="a crossing is twenty four pounds", heard_as=["four"])
        self.assertTrue(found.passed)
        found = await self.run_with(heard="a crossing is fourteen pounds", heard_as=["four"])
        self.assertFalse(found.passed)

    async def test_the_stages_that_run(self):
        ran = ["route", "answer", "speak", "encode"]
        found = await self.run_with(stages=ran)
        self.assertEqual(found.failures, [])
        self.assertEqual([each.stage for each in found.form.stages], ran)
        found = await self.run_with(stages=["route", "answer"])
        self.assertEqual(
            found.failures,
            ["the stages that ran are route, answer, speak, encode, not route, answer"],
        )

    async def test_where_it_cannot_be_spoken(self):
        self.assertEqual((await self.run_with(fails=True)).failures, ["its sound: no voice"])

    async def test_without_speech_it_says_so(self):
        case = next(iter(read_cases({"assistant.yaml": DESK, "cases/t.yaml": CASE})))
        found = await run_case(
            case, read_assistant({"assistant.yaml": DESK}), "said" * 16, MemoryLogic()
        )
        self.assertEqual(found.failures, ["the reply cannot be spoken here: run it with speech"])

    async def test_with_real_speech_and_no_service(self):
        files = {"assistant.yaml": DESK, "cases/t.yaml": CASE}
        (found,) = await run_here(files, read_cases(files))
        self.assertEqual(found.failures, [])
