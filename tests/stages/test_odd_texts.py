"""Whatever a person sends is answered: numerals of every script, controls, endless texts."""

import random
import unittest.mock

from fond_echo.core.dialogue.routing import MAX_SAID, Router
from fond_echo.core.language.registry import language
from fond_echo.driver import queued
from fond_echo.records.claim import Failure
from tests.support.driving import Driving

DESK = """\
assistant: test-desk
voice: tern
routes:
  - route: tickets
    examples: [I would like some tickets]
    slots:
      count:
        kind: number
        ask: How many?
        choices: ["2", "4", "6"]
    reply: {text: "{{ slots.count }} tickets."}
  - route: ring
    examples: [Please ring me back]
    slots:
      number: {kind: digits, ask: Your number?}
      day: {kind: date, ask: Which day?}
      name: {kind: spelled, ask: Your name?}
      hour: {kind: time, ask: When?}
      amount: {kind: currency, ask: How much?}
      note: {kind: text, ask: What about?}
    reply: {text: "{{ slots.note }}"}
fallback:
  reply: {text: I know about boats and fares.}
"""

ODD = (
    "²", "½", "Ⅷ", "①", "㊿", "፩", "一千", "٣", "٢٠٢٦-١٢-٠١", "１２:３０", "९", "9" * 5_000, "9" * 30, "£" + "9" * 40,
    "9" * 5_000 + "th", "9" * 4_400 + "kg", "12²", "\0", "\x1b[31m", "\u202e١٢", "\ufeff", "\u2028", "\ud800", "\udfff3",
    "a\u0301" * 90, "👨‍👩‍👧", "{{ turn.text }}", "{% for x in range(9) %}", "<speak>", "</speak>", "&#0;", "\\", "1.)", "2.)",
    ".)", "-1", "0", "00", "4", "99/99/9999", "25:61", "1e999", "no. 9", "a" * 100_000, "a b " * 25_000, "the 99th of May 99999",
)  # fmt: skip


class Odd(Driving):
    assistant = DESK
    number = 0

    async def say(self, text, **fields):
        self.number += 1
        self.sent.clear()
        turn_id = await self.arrive(f"m{self.number}", text, **fields)
        await self.driver.work(turn_id)
        return turn_id, await self.turn(turn_id)

    async def test_everything_is_answered_whatever_is_open(self):
        chance = random.Random(6)
        begins = ("", "I would like some tickets", "Please ring me back")
        for place, text in enumerate(ODD):
            begin = begins[place % len(begins)]
            if begin:
                await self.say(begin)
            for odd in (text, f"{text} {chance.choice(ODD)}"):
                storable = odd.replace("\0", "\ufffd").encode("utf-8", "replace").decode()
                with self.subTest(text=odd[:40], open=begin):
                    _, turn = await self.say(storable)
                    self.assertEqual(turn.state, "answered", turn.error)
                    self.assertTrue(self.sent)

    async def test_a_typed_value_that_is_a_choice_means_that_one(self):
        for typed, booked in (
            ("2", "2"),
            ("4", "4"),
            ("6", "6"),
            ("1", "2"),
            ("3", "6"),
            ("3.", "6"),
            ("5", "5"),
        ):
            await self.say("I would like some tickets")
            await self.say(typed)
            self.assertEqual(self.sent[0].text, f"{booked} tickets.", typed)

    async def test_a_bug_of_ours_ends_with_an_apology_and_holds_up_nobody(self):
        broken = unittest.mock.patch.object(
            queued.TurnRunner, "_hear", side_effect=ZeroDivisionError("ours")
        )
        turn_id = await self.arrive("m1", sound=b"x")
        following = await self.arrive("m2", "I would like some tickets")
        with broken:
            with self.assertRaises(ZeroDivisionError):
                await self.driver.work(turn_id)
            await self.driver.give_up(turn_id, Failure("receive", "internal", "ours"))
        self.assertEqual((await self.turn(turn_id)).state, "failed")
        await self.driver.work(following)
        self.assertEqual((await self.turn(following)).state, "answered")

    async def test_what_fails_before_any_stage_is_apologized_for(self):
        turn_id = await self.arrive("m1", "How much?")
        broken = unittest.mock.patch.object(
            queued.TurnRunner, "carry", side_effect=ZeroDivisionError
        )
        with broken, self.assertRaises(ZeroDivisionError):
            await self.driver.work(turn_id)
        await self.driver.give_up(turn_id, Failure("receive", "internal", "ours"))
        self.assertEqual(
            [each.text for each in self.sent],
            ["Sorry, something went wrong on our side. Please try again in a moment."],
        )
        turn = await self.turn(turn_id)
        self.assertEqual((turn.state, turn.error["code"]), ("failed", "internal"))


class Bounded(unittest.TestCase):
    def test_what_is_longer_is_no_question(self):
        router = Router([])
        self.assertEqual(len(router.said("seven " * 5_000)), MAX_SAID)
        self.assertEqual(len(router.said("9" * 100_000)), MAX_SAID)

    def test_figures_are_never_too_many(self):
        spoken = language().writing.spoken_tokens
        for text in (
            "9" * 5_000,
            "9" * 5_000 + "th",
            "£" + "9" * 5_000,
            "a" + "1" * 5_000,
            "9" * 5_000 + " kg",
            "9" * 5_000 + "/7",
        ):
            self.assertIn("nine" if "9" in text else "one", spoken(text))
        self.assertEqual(spoken("1234567890123456")[:3], ["one", "two", "three"])
