"""The conversation as people have it: a greeting that is a recording, a long answer that goes on, a
time that may be either half of the day, a question asked again, an answer that comes late."""

import asyncio
import base64
from datetime import UTC, datetime, timedelta

from fond_echo.connectors.errors import LogicFailed
from fond_echo.contract.reply import Reply
from fond_echo.core.audio.containers import encode
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.reading import read_assistant
from fond_echo.turns.turn import assistant_of
from tests.sounds import tone
from tests.support.driving import Driving

DESK = """\
assistant: test-desk
voice: tern
greeting: {text: "Good day from the quay.", sound: hello.ogg}
logic:
  timetable: {url: "http://127.0.0.1:1/logic", key: {secret: timetable-mark}, timeout: 0.3, late_seconds: 20}
routes:
  - route: rules
    examples: [What are the rules for dogs?]
    reply: {documents: [rules.md]}
  - route: meet
    examples: [I want to meet the skipper.]
    slots:
      day: {kind: date, ask: Which day?}
      at: {kind: time, ask: At what time?}
    reply: {text: "Met on {{ slots.day }} at {{ slots.at }}."}
  - route: next-sailing
    examples: [When is the next boat?]
    reply: {logic: timetable.next, safe: true}
  - route: book
    examples: [Book a place.]
    reply: {logic: timetable.book}
fallback:
  reply: {text: I know about boats.}
"""
RULES = (
    "# Rules\n\n## Dogs\n\nDogs sail free. They stay on the open deck. Two at most sail at once."
    " Each has a lead. Muzzles are not needed.\n"
)
HELLO = base64.b64encode(encode(tone(0.6), "ogg")).decode()
FILES = {"rules.md": RULES, "hello.ogg": HELLO}


class Talk(Driving):
    assistant = DESK
    more_files = FILES
    count = 0

    async def say(self, text, **fields):
        self.count += 1
        turn_id = await self.arrive(f"m{self.count}", text, **fields)
        await self.driver.work(turn_id)
        return turn_id

    async def says(self, text, **fields):
        await self.say(text, **fields)
        return self.sent[-1].text

    async def spoken(self, turn_id):
        stages = {each.name: each.output for each in await self.stages(turn_id)}
        return stages["answer"]["parts"][0]["spoken"]

    async def test_a_greeting_may_be_a_recording(self):
        turn_id = await self.say("", joined=True, spoken_reply=True)
        stages = {each.name: each.output for each in await self.stages(turn_id)}
        self.assertEqual([part["text"] for part in stages["speak"]["parts"]],
                         ["Good day from the quay."])  # fmt: skip
        self.assertAlmostEqual(stages["encode"]["clip"]["seconds"], 0.6, delta=0.1)
        with self.assertRaises(InvalidFile) as raised:
            read_assistant({"assistant.yaml": DESK, "rules.md": RULES})
        self.assertIn("there is no sound 'hello.ogg'", str(raised.exception))

    async def test_the_rest_of_a_long_answer_is_offered_and_said(self):
        first = await self.say("What are the rules for dogs?", spoken_reply=True)
        more = "There is more. Shall I go on?"
        self.assertEqual(
            await self.spoken(first), f"Dogs sail free. They stay on the open deck. {more}"
        )
        second = await self.say("yes", spoken_reply=True)
        self.assertEqual(
            await self.spoken(second), f"Two at most sail at once. Each has a lead. {more}"
        )
        third = await self.say("go on", spoken_reply=True)
        stages = {each.name: each.output for each in await self.stages(third)}
        self.assertEqual(stages["answer"]["parts"][0]["text"], "Muzzles are not needed.")
        # It was all: another yes is nothing that was asked.
        self.assertEqual((await self.says("yes", spoken_reply=True)), "I know about boats.")

    async def test_who_does_not_want_the_rest_or_asks_something_else(self):
        await self.say("What are the rules for dogs?", spoken_reply=True)
        self.assertEqual(await self.says("no thanks", spoken_reply=True), "All right.")
        await self.say("What are the rules for dogs?", spoken_reply=True)
        self.assertIn("Which day?", await self.says("I want to meet the skipper."))

    async def test_who_reads_has_it_all(self):
        self.assertIn("Muzzles are not needed.", await self.says("What are the rules for dogs?"))
        self.assertEqual(await self.says("yes"), "I know about boats.")

    def day(self):
        return (datetime.now(UTC) + timedelta(days=3)).strftime("%A")

    async def meet(self, time):
        await self.say("I want to meet the skipper.")
        await self.say(f"on {self.day()}")
        return await self.says(time)

    async def test_a_time_by_day_needs_no_question(self):
        self.assertRegex(await self.meet("half past three"), r"^Met on \S+ at 15:30\.$")

    async def open_long(self):
        hours = 'voice: tern\nhours: {open: {mon-sun: "06:00-22:00"}}'
        await self.publish(DESK.replace("voice: tern", hours), FILES)

    async def test_which_half_of_the_day_is_asked_where_it_stays_open(self):
        await self.open_long()
        for answer, time in (
            ("in the evening", "19:15"),
            ("morning", "07:15"),
            ("19:15", "19:15"),
            ("pm", "19:15"),
        ):
            with self.subTest(answer):
                asked = await self.meet("quarter past seven")
                self.assertIn("Do you mean 07:15 or 19:15?", asked)
                self.assertRegex(await self.says(answer), rf"^Met on \S+ at {time}\.$")

    async def test_another_time_may_be_said_instead(self):
        await self.open_long()
        await self.meet("quarter past seven")
        self.assertRegex(await self.says("half past two"), r"^Met on \S+ at 14:30\.$")

    async def test_a_question_is_answered_again_where_that_changes_nothing(self):
        self.world.logic.answer = lambda asked: Reply(
            text=f"{asked.turn.text} {len(self.world.logic.requested)}"
        )
        self.assertEqual(await self.says("When is the next boat?"), "When is the next boat? 1")
        self.assertEqual(await self.says("answer again"), "When is the next boat? 2")
        self.assertEqual(await self.says("try that again please"), "When is the next boat? 3")
        self.assertEqual(await self.says("Book a place."), "Book a place. 4")
        self.assertEqual(await self.says("answer again"), "Book a place. 4")
        self.assertEqual(len(self.world.logic.requested), 4)

    async def slowly(self, seconds, fails=False):
        asked = []

        async def ask(service, request, *, safe=False, listener=None, once=None):
            asked.append(service.timeout)
            await asyncio.sleep(seconds)
            if fails:
                raise LogicFailed("it broke")
            yield Reply(text="At noon.", choices=["Book a place."])

        self.world.logic.ask = ask
        return asked

    async def test_an_answer_after_its_time_is_sent_when_it_comes_and_once(self):
        asked = await self.slowly(0.8)
        late = "This takes longer than usual. I will answer as soon as I can."
        self.assertEqual(await self.says("When is the next boat?"), late)
        self.assertEqual(asked, [20.3])
        # Meanwhile other things are talked about.
        self.assertIn("Two at most", await self.says("What are the rules for dogs?"))
        await self.driver.settled()
        jobs = await self.waiting_jobs()
        for turn_id in dict.fromkeys(jobs):
            await self.driver.work(turn_id)
        self.assertIn("At noon.", self.sent[-1].text)
        self.assertEqual(sum("At noon." in each.text for each in self.sent), 1)
        turn = await self.turn(jobs[-1])
        self.assertEqual((turn.standing, turn.state), ("late", "answered"))

    async def test_one_that_fails_after_all_is_told(self):
        await self.slowly(0.6, fails=True)
        await self.say("When is the next boat?")
        await self.driver.settled()
        for turn_id in await self.waiting_jobs():
            await self.driver.work(turn_id)
        self.assertIn("I cannot look that up just now", self.sent[-1].text)

    async def test_one_in_time_is_no_late_one(self):
        await self.slowly(0.05)
        self.assertIn("At noon.", await self.says("When is the next boat?"))
        await self.driver.settled()

    def test_a_plain_greeting_is_read_as_words(self):
        plain = DESK.replace('{text: "Good day from the quay.", sound: hello.ogg}', "Good day.")
        found = assistant_of("x" * 64, {"assistant.yaml": plain, "rules.md": RULES})
        self.assertEqual((found.greeting.text, found.greeting.sound), ("Good day.", ""))
