"""What a reply may be beside words: a sound of the assistant's folder, a summary, other words in
the place of those before."""

from fond_echo.connectors.errors import NoAnswer
from fond_echo.contract.channel import Inbound, SoundHandle
from fond_echo.contract.reply import Choice, Reply
from fond_echo.core.audio.containers import decode, encode
from fond_echo.documents.media import as_text
from fond_echo.stages.ports import Abilities
from fond_echo.store.inbound import take_in_once
from tests.sounds import tone
from tests.support.driving import QUESTION, Driving, note

DESK = """\
assistant: test-desk
voice: tern
logic:
  timetable: {url: "http://127.0.0.1:1/logic", secret: timetable-mark}
routes:
  - route: next-sailing
    examples: [When is the next boat to Pell?]
    reply: {logic: timetable.next-sailing, safe: true, summary: 1}
  - route: horn
    examples: [Let me hear the horn]
    command: horn
    answers_in: voice
    reply: {sound: sounds/horn.mp3, text: The horn., choices: [Again]}
fallback:
  reply: {text: I know about boats.}
"""
ASKING = """\
assistant: test-desk
grammar: names.abnf
voice: tern
routes:
  - route: fares
    examples: [How much is a ticket?]
    key: "1"
    reply: {text: Four pounds.}
  - route: book
    examples: [Book a place]
    key: "2"
    slots:
      island: {rule: island, ask: To which island?, choices: [Pell, Ossel]}
    reply: {text: "Booked to {{ slots.island }}."}
fallback:
  reply: {text: I know about boats.}
"""
LONG = (
    "The boat to Pell leaves at noon from the stone quay. Weather is fair. "
    "Bring a coat. The stone quay is behind the boat shed, and the boat to Pell waits there."
)


class Replies(Driving):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.horn = encode(tone(1.5), "mp3")
        await self.publish(DESK, {"sounds/horn.mp3": as_text(self.horn)})

    async def test_a_sound_of_the_folder_is_played_and_what_can_be_chosen_is_said(self):
        turn_id = await self.arrive("m1", "let me hear the horn")
        await self.driver.work(turn_id)
        (sent,) = self.sent
        self.assertEqual((sent.kind, sent.text), ("voice", "The horn."))
        clip = decode(sent.data).clip
        # A second and a half of horn, and then the choice.
        self.assertGreater(clip.seconds, 2.0)
        begin = clip.samples[clip.rate // 2 : clip.rate]
        crossings = ((begin[:-1] < 0) & (begin[1:] >= 0)).sum()
        self.assertAlmostEqual(crossings / 0.5, 440, delta=10)
        spoken = next(s for s in await self.stages(turn_id) if s.name == "speak")
        self.assertEqual(spoken.output["parts"][0]["text"], "The horn.")

    async def test_a_sound_that_is_none_gives_way_to_its_words(self):
        await self.publish(DESK, {"sounds/horn.mp3": as_text(self.horn[:40])})
        turn_id = await self.arrive("m1", "let me hear the horn")
        await self.driver.work(turn_id)
        self.assertEqual((await self.turn(turn_id)).state, "answered")
        self.assertGreater(decode(self.sent[0].data).clip.seconds, 0.5)

    async def test_logic_may_name_a_sound_that_is_not_there(self):
        self.world.logic.answer = lambda requested: Reply(text="At noon.", sound="sounds/none.ogg")
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        self.assertEqual([each.kind for each in self.sent], ["voice"])

    async def test_a_long_answer_is_written_whole_and_spoken_in_short(self):
        self.world.logic.answer = lambda requested: Reply(text=LONG)
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        self.assertEqual(self.sent[0].text, LONG)
        spoken = next(s for s in await self.stages(turn_id) if s.name == "speak")
        said = " ".join(part["text"] for part in spoken.output["parts"])
        self.assertIn("noon", said)
        self.assertNotIn("coat", said)


class Rewriting(Driving):
    can = Abilities(frozenset(("text", "choices", "edit")), edits_choices=True)

    async def say(self, text, reply):
        self.world.logic.answer = lambda requested: reply
        turn_id = await self.arrive(f"m{len(self.sent)}-{text}", text)
        await self.driver.work(turn_id)
        return turn_id

    async def test_other_words_take_the_place_of_those_before(self):
        self.world.channel.abilities = self.can
        await self.say(QUESTION, Reply(text="To which?", choices=[Choice(label="Pell")]))
        again = Reply(text="To Pell, at noon.", rewrites=True, choices=[Choice(label="Book")])
        turn_id = await self.say(QUESTION, again)
        first, second = self.sent
        self.assertEqual((second.kind, second.id), ("edit", "out-1"))
        self.assertEqual(second.choices, (("Book", "Book"),))
        (row,) = await self.deliveries(turn_id)
        await self.say(QUESTION, Reply(text="Sailed.", rewrites=True))
        self.assertEqual(self.sent[2].kind, "edit")
        self.assertNotEqual(first.text, self.sent[2].text)
        self.assertEqual(row.kind, "edit")

    async def test_what_cannot_be_rewritten_is_said_anew(self):
        again = Reply(text="At one.", rewrites=True, choices=[Choice(label="Book")])
        await self.say(QUESTION, again)
        self.assertEqual(self.sent[-1].kind, "text", "there was nothing before")
        self.world.channel.abilities = Abilities(frozenset(("text", "choices", "edit")))
        await self.say(QUESTION, again)
        self.assertEqual(self.sent[-1].kind, "choices", "its edits take no choices")
        self.world.channel.abilities = Abilities(frozenset(("text",)))
        await self.say(QUESTION, again)
        self.assertEqual(self.sent[-1].text, "At one.\n\n1. Book")

    async def test_a_rewriting_in_doubt_is_made_again(self):
        self.world.channel.abilities = self.can
        await self.say(QUESTION, Reply(text="At noon."))
        tries = []

        def once(outgoing):
            tries.append(outgoing)
            if len(tries) == 1:
                raise NoAnswer("the network hung up", where="http://skerry.test")

        self.world.channel.on_send = once
        turn_id = await self.say(QUESTION, Reply(text="At one.", rewrites=True))
        self.assertEqual([each.kind for each in tries], ["edit", "edit"])
        self.assertEqual((await self.turn(turn_id)).state, "answered")


class InACall(Driving):
    """What was said or pressed in a call, as far as stages see it."""

    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.publish(ASKING, {"names.abnf": "#ABNF 1.0;\n$island = Pell | Ossel;\n"})

    async def turn_of(self, id, key="", said=""):
        sound = None
        if said:
            self.world.channel.sounds[id] = note(said)
            sound = SoundHandle(handle=id, kind="call")
        message = Inbound(
            id=id, conversation="call-1", contact="isla", text=key, key=key, sound=sound, aloud=True
        )
        taken = await take_in_once(
            self.database, self.queue, "test-channel", self.settings, message, {}, queued=False
        )
        self.assertEqual(await self.waiting_jobs(), [], "whoever took it in carries it")
        self.sent.clear()
        await self.driver.work(taken.turn_id)
        turn = await self.turn(taken.turn_id)
        spoken = next(s for s in await self.stages(taken.turn_id) if s.name == "speak")
        return turn, " ".join(part["text"] for part in spoken.output["parts"])

    async def test_choices_have_keys_and_numbers(self):
        self.world.channel.abilities = Abilities(frozenset(("voice",)))
        _, said = await self.turn_of("m1", key="2")
        self.assertEqual(
            said, "to which island for pell press or say one for ossel press or say two"
        )
        self.assertEqual([each.kind for each in self.sent], ["voice"], "nothing is written")
        turn, said = await self.turn_of("m2", key="1")
        self.assertEqual((turn.route, turn.arrived_as, said), ("book", "key", "booked to pell"))
        await self.turn_of("m3", key="2")
        turn, said = await self.turn_of("m4", said="Two.")
        self.assertEqual((turn.arrived_as, said), ("speech", "booked to ossel"))

    async def test_without_choices_a_key_takes_its_route(self):
        self.world.channel.abilities = Abilities(frozenset(("voice",)))
        turn, said = await self.turn_of("m1", key="1")
        self.assertEqual((turn.route, said), ("fares", "four pounds"))
