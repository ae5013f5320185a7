"""What a reply may be beside words: a sound of the assistant's folder, a summary, other words in
the place of those before, and what is said while one waits."""

import asyncio
from unittest import mock

from fond_echo.connectors.errors import NoAnswer
from fond_echo.contract.channel import ChannelSettings, Inbound, SoundHandle
from fond_echo.contract.reply import Choice, Reply
from fond_echo.core.audio.containers import decode, encode
from fond_echo.documents.media import as_text
from fond_echo.store.inbound import take_in_once
from fond_echo.turns.ports import Abilities
from tests.sounds import tone
from tests.support.driving import QUESTION, Driving, note
from tests.support.world import ASSISTANT

DESK = """\
assistant: test-desk
voice: tern
logic:
  timetable: {url: "http://127.0.0.1:1/logic", key: {secret: timetable-mark}}
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

    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.world.channel.abilities = self.can
        self.enterContext(mock.patch("fond_echo.driver.side_messages.EARLY_AFTER", 0.05))

    async def say(self, *parts, seconds=0.4, **arrives):
        """The answer comes in parts, with pauses between them."""

        async def ask(service, request, *, safe=False, once=None):
            for number, part in enumerate(parts):
                await asyncio.sleep(seconds if number else 0)
                yield part

        self.world.logic.ask = ask
        turn_id = await self.arrive(f"m{len(self.sent)}", **(arrives or {"text": QUESTION}))
        await self.driver.work(turn_id)
        return turn_id

    async def test_a_part_goes_out_before_the_next_which_takes_its_place(self):
        last = Reply(text="To Pell, at noon.", rewrites=True, choices=[Choice(label="Book")])
        turn_id = await self.say(Reply(text="Looking …"), last)
        first, second = self.sent
        self.assertEqual((first.kind, first.text), ("text", "Looking …"))
        self.assertEqual((second.kind, second.id, second.text), ("edit", "out-1", last.text))
        self.assertEqual(second.choices, (("Book", "Book"),))
        early, answer = await self.deliveries(turn_id)
        self.assertLess(early.settled_at, answer.planned_at)
        await self.say(Reply(text="Sailed.", rewrites=True))
        self.assertEqual(self.sent[2].kind, "text", "an earlier turn's words stay as they are")

    async def test_three_forms_are_one_message(self):
        forms = [Reply(text=f"{n} boats", rewrites=n > 0) for n in range(3)]
        await self.say(*forms)
        self.assertEqual(
            [(each.kind, each.id, each.text) for each in self.sent],
            [("text", "", "0 boats"), ("edit", "out-1", "1 boats"), ("edit", "out-1", "2 boats")],
        )

    async def test_without_edits_or_pauses_the_last_form_alone_goes_out(self):
        forms = [Reply(text="Looking …"), Reply(text="At one.", rewrites=True)]
        await self.say(*forms, seconds=0.0)
        self.assertEqual([each.text for each in self.sent], ["At one."])
        self.world.channel.abilities = Abilities(frozenset(("text",)))
        await self.say(*forms)
        self.assertEqual([each.text for each in self.sent[1:]], ["Looking …", "At one."])

    async def test_parts_that_rewrite_nothing_go_out_as_they_come(self):
        turn_id = await self.say(Reply(text="The first."), Reply(text="The second."))
        self.assertEqual([each.text for each in self.sent], ["The first.", "The second."])
        self.assertEqual((await self.turn(turn_id)).state, "answered")

    async def test_by_voice_the_last_form_is_spoken_once(self):
        self.world.channel.abilities = Abilities(frozenset(("text", "voice", "edit")))
        await self.say(
            Reply(text="I am looking."), Reply(text="At one.", rewrites=True), sound=note(QUESTION)
        )
        (sent,) = self.sent
        self.assertEqual((sent.kind, sent.text), ("voice", "At one."))

    async def test_a_rewriting_in_doubt_is_made_again(self):
        tries = []

        def once(outgoing):
            tries.append(outgoing)
            if len(tries) == 2:
                raise NoAnswer("the network hung up", where="http://skerry.test")

        self.world.channel.on_send = once
        turn_id = await self.say(Reply(text="Looking …"), Reply(text="At one.", rewrites=True))
        self.assertEqual([each.kind for each in tries], ["text", "edit", "edit"])
        self.assertEqual((await self.turn(turn_id)).state, "answered")


WAITING = ASSISTANT + "please_wait: {after: 0.2, text: I am asking the harbour master.}\n"


class PleaseWait(Driving):
    """Business logic that takes long."""

    assistant = WAITING
    settings = ChannelSettings()

    async def ask_slowly(self, seconds, **arrives):
        async def ask(service, request, *, safe=False, once=None):
            await asyncio.sleep(seconds)
            yield Reply(text="At noon.")

        self.world.logic.ask = ask
        kinds = frozenset(("text", "voice", "delete"))
        self.world.channel.abilities = Abilities(kinds, indicator_every=0.1)
        turn_id = await self.arrive("m1", **(arrives or {"text": QUESTION}))
        await self.driver.work(turn_id)
        return [(each.kind, each.text) for each in self.sent]

    async def test_it_says_so_once_and_takes_it_back(self):
        words = "I am asking the harbour master."
        self.assertEqual(
            await self.ask_slowly(1.0), [("text", words), ("text", "At noon."), ("delete", "")]
        )

    async def test_and_not_where_it_is_quick(self):
        self.assertEqual(await self.ask_slowly(0.0), [("text", "At noon.")])

    async def test_the_indicator_is_shown_again_while_it_lasts(self):
        await self.ask_slowly(1.0)
        self.assertGreater(len(self.world.channel.indicated), 3)


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
            id=id,
            conversation="call-1",
            contact="isla",
            text=key,
            key=key,
            sound=sound,
            spoken_reply=True,
        )
        taken = await take_in_once(
            self.database, "test-channel", self.settings, message, {}, queued=False
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

    async def test_a_key_that_is_not_on_the_menu_says_the_menu_again(self):
        self.world.channel.abilities = Abilities(frozenset(("voice",)))
        _, said = await self.turn_of("m1", key="9")
        self.assertEqual(
            said,
            "that key is not on the menu for how much is a ticket press one"
            " for book a place press two",
        )
        _, said = await self.turn_of("m2", key="1")
        self.assertEqual(said, "four pounds")

    async def test_who_is_not_understood_again_and_again_is_helped_on(self):
        self.world.channel.abilities = Abilities(frozenset(("voice",)))
        heard = []
        for number in range(4):
            _, said = await self.turn_of(f"m{number}", said="My cousin plays the tuba.")
            heard.append(said)
        first, second, third, fourth = heard
        self.assertNotIn("still do not understand", first)
        self.assertTrue(second.startswith("i am sorry i still do not understand"), second)
        self.assertIn("for how much is a ticket press one", third)
        self.assertIn("goodbye", fourth)
        _, said = await self.turn_of("m9", key="1")
        self.assertEqual(said, "four pounds")
