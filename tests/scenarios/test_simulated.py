"""Scenarios played without a network, in chat and call alike; the language is warbles."""

import contextlib
import io
import json
import tempfile
import unittest
from pathlib import Path
from xml.etree import ElementTree

import numpy as np

from fond_echo.cli.main import main
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.reading import read_assistant
from fond_echo.documents.scenario import Noise, read_scenario_file
from fond_echo.replays.nothing_outside import NoLogic
from fond_echo.scenarios.playing import Coverage, fragile, play
from fond_echo.scenarios.simulated import Around, suffering
from tests.support.warbles import WarbleSpeech, forget, warble

DESK = """\
assistant: small-desk
voice: tern
greeting: Good day.
goodbye: Fair winds.
logic:
  timetable: {url: "http://127.0.0.1:1/logic", key: {secret: timetable-mark}}
routes:
  - route: fares
    examples: [How much is a ticket?]
    key: "3"
    reply: {text: Four pounds., choices: [A return, A single]}
  - route: next-boat
    examples: [When is the next boat?]
    slots: {island: {kind: text, ask: Which island?}}
    reply: {logic: timetable.next, safe: false}
  - route: word
    examples: [I want to leave a word.]
    reply: {text: Please say it now., then: record, max_seconds: 10, kept: It is kept.}
fallback:
  reply: {text: I know about boats.}
"""
SCENARIO = """\
scenario: Somebody asks twice
logic:
  - {asks: timetable.next, slots: {island: Pell.}, answers: [{text: At noon.}]}
steps:
  - says: How much is a ticket?
    expect: {route: fares, contains: [Four pounds], choices: [A return, A single]}
  - says: When is the next boat?
    expect: {contains: [Which island?]}
  - says: Pell.
    expect: {route: next-boat, slots: {island: Pell.}, contains: [At noon.]}
  - says: Goodbye.
    expect: {ended: true}
"""


async def hear(clip, expected):
    return await WarbleSpeech().transcribe(clip, expected, language="en", long=False)


AROUND = Around(hear, lambda words, voice: warble(words), NoLogic())


class Scenarios(unittest.IsolatedAsyncioTestCase):
    def setUp(self):
        forget()
        self.assistant = read_assistant({"assistant.yaml": DESK})

    async def play(self, where, text=SCENARIO, **fields):
        scenario = read_scenario_file(text, "x.yaml")
        return await play(scenario, where, self.assistant, "r" * 64, AROUND, **fields)

    async def both(self, text):
        return [(await self.play(where, text)).failures for where in ("chat", "phone")]

    async def test_the_same_file_as_a_chat_and_as_a_call(self):
        self.assertEqual(await self.both(SCENARIO), [[], []])

    async def test_an_hour_of_silence_takes_no_time(self):
        text = "scenario: Silence\non: [phone]\nsteps:\n" + "".join(
            f"  - waits: {wait}\n    expect: {{{expect}}}\n"
            for wait, expect in (
                ("3s", "reminded: false"), ("5s", "reminded: true, ended: false"),
                ("1h", "ended: true"),
            )
        )  # fmt: skip
        played = await self.play("phone", text)
        self.assertEqual(played.failures, [])
        # The call ends long before the hour: nobody is there.
        self.assertLess(played.seconds, 120)

    async def test_who_interrupts_is_heard_and_what_was_being_said_stops(self):
        text = (
            "scenario: Cut in\non: [phone]\nsteps:\n  - says: How much is a ticket?\n"
            "  - says: When is the next boat?\n    interrupts: true\n"
            "    expect: {interrupted: true, contains: [Which island?]}\n"
        )
        self.assertEqual((await self.play("phone", text)).failures, [])

    async def test_keys_choices_and_a_message(self):
        text = (
            'scenario: Keys\nsteps:\n  - presses: "3"\n    on: phone\n    expect: {route: fares}\n'
            "  - types: How much is a ticket?\n    on: chat\n"
            '  - presses: "1"\n    on: chat\n    expect: {heard: A return}\n'
            "  - picks: A single\n    on: chat\n"
            "  - says: I want to leave a word.\n    expect: {contains: [Please say it now.]}\n"
            "  - says: The rope is new.\n    expect: {outcome: recorded, contains: [It is kept.]}\n"
        )
        self.assertEqual(await self.both(text), [[], []])

    async def test_what_is_not_as_it_must_be_is_told_with_its_step(self):
        wrong = SCENARIO.replace("contains: [Four pounds]", "contains: [Five pounds]").replace(
            "island: Pell.}, contains", "island: Ossel}, contains"
        )
        (first, second), _ = await self.both(wrong)
        self.assertEqual(first, "step 1: 'Five pounds' is not said: 'Four pounds.'")
        self.assertEqual(second, "step 3: slot island is 'Pell.', not 'Ossel'")

    async def test_after_its_end_nothing_more_can_be_said(self):
        text = "scenario: Over\nsteps:\n  - says: Goodbye.\n  - says: How much is a ticket?\n"
        for failures in await self.both(text):
            self.assertEqual(failures, ["step 2: the conversation was over before"])

    async def test_business_logic_without_an_answer_is_not_asked(self):
        text = SCENARIO.replace("island: Pell.}, answers", "island: Ossel}, answers")
        self.assertIn("not run", " ".join((await self.play("chat", text)).failures))

    async def test_which_phrases_are_fragile(self):
        scenario = read_scenario_file(SCENARIO, "x.yaml")
        loud = Noise(kind="hiss", decibels=-5)
        found = await fragile(scenario, "chat", self.assistant, "r" * 64, AROUND,
                              ["one", "two"], [None, loud])  # fmt: skip
        self.assertEqual([each.phrase for each in found][:2],
                         ["How much is a ticket?", "When is the next boat?"])  # fmt: skip
        self.assertEqual([each.passed[0] for each in found], [2, 2, 2, 2])

    async def test_what_nothing_reaches(self):
        coverage = Coverage()
        for step in (await self.play("chat")).steps:
            coverage.saw(step.came)
        self.assertEqual(
            coverage.missing(self.assistant),
            {"routes": ["word", "fallback"], "slots": [], "choices": ["A return", "A single"]},
        )

    async def test_lost_packets_are_silence(self):
        lossy = SCENARIO.replace("steps:", "loss: 0.5\nsteps:")
        heard = (await self.play("phone", lossy)).steps[0].came
        self.assertIsNotNone(heard)


class Sound(unittest.TestCase):
    def test_noise_lies_so_far_below_the_voice(self):
        clip = warble("How much is a ticket?")
        loud = np.abs(clip.samples) > 0.1 * clip.peak
        for kind in ("hiss", "hum", "murmur"):
            noisy = suffering(clip, Noise(kind=kind, decibels=10), 3)
            added = noisy.samples - clip.samples
            ratio = 10 * np.log10(np.mean(clip.samples[loud] ** 2) / np.mean(added**2))
            self.assertAlmostEqual(ratio, 10, delta=0.5, msg=kind)
        self.assertIs(suffering(clip, None, 3), clip)


class Files(unittest.TestCase):
    def test_what_is_wrong_is_told_with_its_line(self):
        for old, new, what in (
            ("says: Pell.", "says: Pell.\n    types: Pell", "exactly one of says, types"),
            ("scenario: Somebody asks twice", "scene: x", "scenario"),
            ("expect: {ended: true}", "expect: {over: true}", "over"),
            ("steps:", "on: [fax]\nsteps:", "'chat' or 'phone'"),
        ):
            with self.subTest(what), self.assertRaises(InvalidFile) as raised:
                read_scenario_file(SCENARIO.replace(old, new), "x.yaml")
            self.assertIn(what, str(raised.exception))
        bundle = {"assistant.yaml": DESK, "scenarios/x.yaml": SCENARIO.replace("steps", "stops")}
        with self.assertRaises(InvalidFile) as raised:
            read_assistant(bundle)
        self.assertIn("scenarios/x.yaml", str(raised.exception))


class InTheTerminal(unittest.TestCase):
    """With real speech."""

    def setUp(self):
        folder = self.enterContext(tempfile.TemporaryDirectory())
        self.desk = Path(folder) / "desk"
        (self.desk / "scenarios").mkdir(parents=True)
        (self.desk / "assistant.yaml").write_text(DESK)
        self.file = self.desk / "scenarios" / "twice.yaml"
        self.file.write_text(SCENARIO.replace("Pell.", "Pell"))

    def typed(self, *arguments):
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            code = main([str(each) for each in arguments])
        return code, out.getvalue()

    def test_it_is_run_and_reported(self):
        report = self.desk.parent / "report.xml"
        code, out = self.typed("scenario", "run", self.file, "--junit", report)
        self.assertIn("Somebody asks twice, phone", out)
        self.assertEqual(len(ElementTree.parse(report).findall("testcase")), 2)
        self.assertEqual(code, 0 if "2 of 2 scenarios passed" in out else 1)
        self.file.write_text(SCENARIO.replace("Four pounds", "Five pounds"))
        code, out = self.typed("scenario", "run", self.file, "--on", "chat", "--json")
        (found,) = json.loads(out)
        self.assertEqual(
            (code, found["passed"], found["steps"][0]["turn"]["route"]), (1, False, "fares")
        )

    def test_coverage_and_fragile_phrases(self):
        code, out = self.typed("assistant", "coverage", self.desk, "--json")
        self.assertEqual(code, 1)
        self.assertIn("word", json.loads(out)["routes"])
        _, out = self.typed("scenario", "run", self.file, "--on", "chat", "--speakers", "2",
                            "--noise", "none", "--json")  # fmt: skip
        self.assertEqual(json.loads(out)[0]["phrase"], "How much is a ticket?")
        self.assertEqual(json.loads(out)[0]["none"], 2)
