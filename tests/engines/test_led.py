"""Free answers that do more than speak: an engine chooses a route, wants a function that the person
is asked about first, has to call one, ends the talk or connects; and engines that misbehave."""

from __future__ import annotations

import random
from datetime import UTC, datetime

from fond_echo.contract.reply import Reply
from fond_echo.core.dialogue.free import FreeAnswer
from fond_echo.core.dialogue.functions import Wish
from tests.engines.test_turns import Script, World
from tests.support.driving import Driving
from tests.support.engines import Gannet

DESK = """\
assistant: test-desk
voice: tern
brief: >
  You are the harbour desk. It is {{ now | date }}. {% if aloud %}You are heard.{% else %}You are
  read.{% endif %}
engines: {answer: [harbour-mind]}
logic:
  timetable: {url: "http://127.0.0.1:1/logic", key: {secret: timetable-mark}}
routes:
  - route: next-sailing
    examples: [when does the boat leave, is there a boat today]
    slots:
      island: {kind: text, ask: Which island?}
      day: {kind: date, ask: Which day?, confirm: true}
    read_back: "To {{ slots.island }} on {{ slots.day }}?"
    reply: {logic: timetable.next-sailing, safe: true}
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: Four pounds.}
fallback:
  reply:
    free: true
    transfers: ["+441632960101"]
    functions:
      timetable.book:
        about: books places
        confirm: >-
          Shall I book {{ arguments.places }} places to {{ arguments.island }}{% if arguments.names %}
          for {{ arguments.names[0].name }}{% endif %}?
        arguments:
          island: {one_of: [Pell, Brannick]}
          places: {kind: whole, least: 1, most: 6}
          names: {kind: list, required: false, entries: {kind: object, fields: {name: {}}}}
      timetable.weather: {about: tells the weather}
"""


class Leading(Driving):
    assistant = DESK

    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.world = World(self.world, Gannet())
        self.driver._world = self.world
        self.asked = 0

    def script(self, *answers):
        self.world.scripted = script = Script(*answers)
        return script

    async def ask(self, text, **kinds):
        self.asked += 1
        turn_id = await self.arrive(f"m{self.asked}", text=text, **kinds)
        await self.driver.work(turn_id)
        return turn_id, self.sent[-1].text

    async def output(self, turn_id, name):
        return next(each.output for each in await self.stages(turn_id) if each.name == name)


class Led(Leading):
    async def test_an_engine_chooses_a_route_that_asks_and_confirms_as_always(self):
        self.world.logic.answer = lambda asked: Reply(text=f"At ten to {asked.slots['island']}.")
        script = self.script(
            FreeAnswer("", wishes=(Wish("route.next-sailing", {"island": "Pell"}),))
        )
        turn_id, text = await self.ask("my sister lives over there and I must see her")
        self.assertEqual(text, "Which day?")
        offered = [each.name for each in script.questions[0].functions if each.route]
        self.assertEqual(set(offered), {"route.next-sailing", "route.fares"})
        self.assertEqual((await self.turn(turn_id)).route, "next-sailing")
        routed = (await self.output(turn_id, "answer"))["routed"]
        self.assertEqual((routed["by"], routed["slots"]), ("engine", {"island": "Pell"}))
        _, text = await self.ask("tomorrow")
        self.assertTrue(text.startswith("To Pell on"), text)
        _, text = await self.ask("yes")
        self.assertEqual(text, "At ten to Pell.")

    async def test_whatever_an_engine_chooses_is_done(self):
        chance = random.Random(7)
        for share in (0.0, 0.1, 0.2):
            for _ in range(5):
                right = "route.fares" if chance.random() >= share else "route.next-sailing"
                self.script(FreeAnswer("", wishes=(Wish(right, {}),)))
                turn_id, text = await self.ask("my nan would like to come along, what about her")
                self.assertEqual((await self.turn(turn_id)).route, right.partition(".")[2])
                self.assertEqual(text, "Four pounds." if "fares" in right else "Which island?")
                if "sailing" in right:
                    await self.ask("never mind")

    async def test_a_route_that_does_not_exist_is_refused_and_the_person_answered(self):
        script = self.script(
            FreeAnswer("", wishes=(Wish("route.to-the-moon", {}),)), FreeAnswer("We do not fly.")
        )
        turn_id, text = await self.ask("bring me to the moon or so")
        self.assertEqual(text, "We do not fly.")
        self.assertIn("not permitted", script.questions[1].calls[0]["result"])
        asked = (await self.output(turn_id, "answer"))["asked"]
        self.assertIn("route.to-the-moon", [each["engine"] for each in asked])

    async def test_a_function_that_needs_a_yes_is_called_after_it(self):
        wish = Wish("timetable.book", {"island": "Pell", "places": 2})
        script = self.script(FreeAnswer("", wishes=(wish,)), FreeAnswer("Two places are yours."))
        _, text = await self.ask("I'd love two places to that small island, you know")
        self.assertIn("Shall I book 2 places to Pell?", text)
        self.assertEqual(self.world.logic.requested, [])
        _, text = await self.ask("yes please")
        self.assertEqual(text, "Two places are yours.")
        self.assertEqual(self.world.logic.requested[-1].action, "book")
        named = {"island": "Pell", "places": 1, "names": [{"name": "Isla"}]}
        self.script(FreeAnswer("", wishes=(Wish("timetable.book", named),)))
        _, asked = await self.ask("and one for my friend over there, would you")
        self.assertIn("for Isla?", asked)
        self.assertEqual(script.questions[-1].calls[0]["name"], "timetable.book")
        self.assertEqual(
            script.questions[-1].text, "I'd love two places to that small island, you know"
        )

    async def test_a_no_calls_nothing_and_another_question_drops_it(self):
        wish = Wish("timetable.book", {"island": "Pell", "places": 2})
        for answer in ("no", "How much is a ticket?"):
            self.script(FreeAnswer("", wishes=(wish,)))
            await self.ask("I'd love two places to that small island, you know")
            _, text = await self.ask(answer)
            self.assertEqual(self.world.logic.requested, [], answer)
            self.assertNotIn("Shall I", text)
            self.script(FreeAnswer("As you like."))
            _, text = await self.ask("yes then let us see about that")
            self.assertEqual(self.world.logic.requested, [])

    async def test_arguments_out_of_bounds_are_refused_one_by_one(self):
        wrong = (
            ({"island": "Pell", "places": 9}, "at most 6"),
            ({"island": "Pell", "places": 0}, "at least 1"),
            ({"island": "Pell", "places": 1.5}, "not a whole number"),
            ({"island": "Pell", "places": 1, "names": "Isla"}, "names is not a list"),
            (
                {"island": "Pell", "places": 1, "names": [{"nick": "x"}]},
                "no field 'names[0].nick'",
            ),
        )
        for arguments, why in wrong:
            script = self.script(
                FreeAnswer("", wishes=(Wish("timetable.book", arguments),)), FreeAnswer("Sorry.")
            )
            _, text = await self.ask("book me in on that thing")
            self.assertEqual(text, "Sorry.")
            self.assertIn(why, script.questions[1].calls[0]["result"])

    async def test_it_connects_with_no_other_number(self):
        self.script(FreeAnswer("One moment.", then="transfer", to="+441632960999"))
        turn_id, text = await self.ask("connect me with somebody dear")
        self.assertNotIn("One moment", text)
        self.assertIn("+441632960999", (await self.turn(turn_id)).error["what"])

    async def test_it_ends_connects_and_sends_files_only_as_it_may(self):
        for answer, wanted in (
            (FreeAnswer("Bye.", then="end"), "end"),
            (FreeAnswer("One moment.", then="transfer", to="+441632960101"), "transfer"),
            (FreeAnswer("Somebody comes.", then="operator"), "operator"),
        ):
            self.script(answer)
            turn_id, text = await self.ask("what would one do in such a case")
            part = (await self.output(turn_id, "answer"))["parts"][0]
            self.assertEqual((text, part["then"]["kind"]), (answer.text, wanted))
            if wanted == "transfer":
                break

    async def test_the_brief_says_how_and_the_person_s_words_stay_data(self):
        script = self.script(FreeAnswer("Yes."))
        await self.ask("would there be a nice place for my aunt")
        question = script.questions[0]
        self.assertIn("You are read.", question.brief)
        self.assertIn(f"{datetime.now(UTC):%Y-%m}", question.brief)
        self.assertEqual(question.facts["arrived_as"], "text")
        self.assertFalse(question.facts["aloud"])
        self.assertTrue(str(question.facts["name"]).startswith("[["))

    async def test_what_was_left_to_be_filled_in_never_goes_out(self):
        script = self.script(FreeAnswer("It leaves from [PIER]."), FreeAnswer("From pier two."))
        turn_id, text = await self.ask("and from where will it all go then")
        self.assertEqual(text, "From pier two.")
        self.assertIn("[PIER]", script.questions[1].brief)
        judged = (await self.output(turn_id, "answer"))["verdict"]
        self.assertEqual((judged["kind"], judged["again"]), ("answers", "asked-again"))
        self.script(FreeAnswer("It leaves from [PIER]."))
        turn_id, text = await self.ask("and from where will it all go then")
        self.assertEqual(text, "I don't know that.")
        judged = (await self.output(turn_id, "answer"))["verdict"]
        self.assertEqual((judged["kind"], judged["again"]), ("unfilled", "not-known"))

    async def test_engines_that_misbehave_leave_the_person_answered(self):
        loop = FreeAnswer("", wishes=(Wish("timetable.weather", {}),))
        for answer in (loop, FreeAnswer("", wishes=(Wish("x" * 5_000, {"a": "b" * 50_000}),))):
            self.script(answer)
            turn_id, text = await self.ask("and how will it all be then")
            self.assertTrue(text)
            self.assertIn("functions called", str((await self.turn(turn_id)).error))


class AskedAgain(Leading):
    assistant = DESK.replace("    transfers:", "    bad_answers: ask-again\n    transfers:")

    async def test_a_number_without_a_source_is_asked_about_once_more(self):
        self.world.logic.answer = lambda asked: Reply(text="Gusts of forty knots from the west.")
        wish = FreeAnswer("", wishes=(Wish("timetable.weather", {}),))
        script = self.script(
            wish, FreeAnswer("Gusts of ninety knots."), FreeAnswer("Gusts of forty knots.")
        )
        turn_id, text = await self.ask("and how will the gusts be then")
        self.assertEqual(text, "Gusts of forty knots.")
        self.assertIn("stands in no source", script.questions[-1].brief)
        self.script(wish, FreeAnswer("Gusts of ninety knots."))
        turn_id, text = await self.ask("and how will the gusts be then")
        self.assertEqual(text, "I don't know that.")
        judged = (await self.output(turn_id, "answer"))["verdict"]
        self.assertEqual(judged["kind"], "unsupported")


class Required(Leading):
    assistant = DESK.replace(
        "    transfers:", "    requires: [timetable.weather]\n    transfers:"
    )  # fmt: skip

    async def test_no_answer_goes_out_without_the_result_that_it_needs(self):
        self.world.logic.answer = lambda asked: Reply(text="Gusts of forty.")
        script = self.script(
            FreeAnswer("Lovely weather!"),
            FreeAnswer("", wishes=(Wish("timetable.weather", {}),)),
            FreeAnswer("Gusts of forty, stay at home."),
        )
        _, text = await self.ask("and how will it all be then")
        self.assertEqual(text, "Gusts of forty, stay at home.")
        self.assertIn("call it before", script.questions[1].calls[0]["result"])
        self.script(FreeAnswer("Lovely weather!"))
        turn_id, text = await self.ask("and how will it all be then")
        self.assertNotIn("Lovely", text)
        self.assertIn("timetable.weather", str((await self.turn(turn_id)).error))
