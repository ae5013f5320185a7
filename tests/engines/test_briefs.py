"""Several briefs in one conversation: the engine hands the talk from one to another."""

from __future__ import annotations

from fond_echo.core.dialogue.free import FreeAnswer
from fond_echo.core.dialogue.functions import Wish
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.reading import read_assistant
from tests.engines.test_led import Leading

DESK = """\
assistant: test-desk
voice: tern
brief: You are the harbour desk.
briefs:
  bookings: {about: places on boats, brief: You book places.}
  complaints: {about: whatever went wrong, brief: "You listen, and say sorry once."}
engines: {answer: [harbour-mind]}
routes:
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: Four pounds.}
fallback: {reply: {free: true}}
"""


def handing(name):
    return FreeAnswer("", wishes=(Wish(f"brief.{name}", {}),))


class Briefs(Leading):
    assistant = DESK

    async def test_the_talk_is_handed_on_and_stays_there(self):
        script = self.script(handing("complaints"), FreeAnswer("I am sorry."))
        turn_id, text = await self.ask("my bag fell into the water and nobody cared")
        self.assertEqual(text, "I am sorry.")
        first, second = script.questions
        self.assertEqual(first.brief, "You are the harbour desk.")
        self.assertEqual(
            second.brief, "You are the harbour desk.\n\nYou listen, and say sorry once."
        )
        offered = [
            [each.brief for each in asked.functions if each.brief] for asked in (first, second)
        ]
        self.assertEqual(offered, [["bookings", "complaints"], ["bookings"]])
        self.assertEqual((await self.output(turn_id, "answer"))["briefs"], ["complaints"])
        script = self.script(FreeAnswer("That is good to hear."))
        await self.ask("well my coat is dry again at least")
        self.assertIn("say sorry once", script.questions[0].brief)
        await self.ask("start over")
        script = self.script(FreeAnswer("Good day."))
        await self.ask("what a nice wind it is over here today")
        self.assertEqual(script.questions[0].brief, "You are the harbour desk.")

    async def test_handing_it_round_in_a_circle_ends(self):
        script = self.script(
            handing("complaints"), handing("bookings"), handing("complaints"), FreeAnswer("Here.")
        )
        turn_id, text = await self.ask("I want somebody who knows about my bag")
        self.assertEqual(text, "Here.")
        self.assertIn("not permitted", script.questions[3].calls[2]["result"])
        self.assertEqual(
            (await self.output(turn_id, "answer"))["briefs"], ["complaints", "bookings"]
        )
        self.script(handing("complaints"))
        turn_id, text = await self.ask("and again my bag, who knows about that one")
        self.assertIn("went wrong", text)

    def test_what_cannot_take_effect_is_an_error(self):
        for wrong, what in (
            (DESK.replace("{free: true}", "{text: No.}"), "no engine is asked for a reply"),
            (DESK.replace("You book places.", '"For {{ contact.name }}"'), "is the person's"),
            (DESK + "logic: {brief: {url: 'http://x.test', key: {secret: mark}}}\n", "own briefs"),
        ):
            with self.subTest(what), self.assertRaisesRegex(InvalidFile, what):
                read_assistant({"assistant.yaml": wrong})
