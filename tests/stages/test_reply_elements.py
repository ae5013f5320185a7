"""What a reply can hold beside words: each is planned, written and said on every channel."""

import unittest
from types import SimpleNamespace
from typing import get_args

from fond_echo.contract.asking import AskOut
from fond_echo.contract.base import Schema
from fond_echo.contract.reply import Elements, Reply
from fond_echo.documents.connector import SENDING
from fond_echo.documents.reply import ReplySpec
from fond_echo.stages.deliver import plan
from fond_echo.stages.speak import spoken_words
from fond_echo.turns.ports import Abilities
from fond_echo.turns.turn import Answered
from tests.support.driving import Driving

PIER = {"latitude": 57.25, "longitude": -2.5, "name": "Pell pier"}
EXAMPLES = {
    "choices": ["Ossel", "Pell"],
    "attachments": [{"url": "https://ferries.example/map.png", "media_type": "image/png"}],
    "places": [PIER],
}
"""An example of each; whoever adds an element adds one here."""

DESK = """\
assistant: test-desk
routes:
  - route: pier
    examples: [where is the pier]
    reply:
      text: It is behind the rope works.
      places: [{latitude: 57.25, longitude: -2.5, name: Pell pier}]
fallback:
  reply: {text: I know the pier.}
"""


def planned(reply, kinds):
    says = SimpleNamespace(text=lambda name, **_: name)
    turn = SimpleNamespace(
        encoded=None, spoken=None, answers_in_writing=True, answered=Answered(parts=[reply]),
        assistant=SimpleNamespace(says=says),
    )  # fmt: skip
    return plan(turn, Abilities(frozenset(kinds)))


class EachElement(unittest.TestCase):
    def test_a_link_that_was_said_is_sent_beside_the_voice_note(self):
        clip = SimpleNamespace(id="c", seconds=2.0, size=900)
        reply = Reply(text="See https://a.example/x. Or https://a.example/x, **now**.")
        turn = SimpleNamespace(
            encoded=SimpleNamespace(clip=clip), spoken=None, answers_in_writing=False,
            answered=Answered(parts=[reply]),
            assistant=SimpleNamespace(says=SimpleNamespace(text=lambda name, **_: name)),
        )  # fmt: skip
        for kinds, sent in (
            (("voice", "text"), [("voice", reply.text), ("text", "https://a.example/x")]),
            (("voice",), [("voice", reply.text)]),
        ):
            found = plan(turn, Abilities(frozenset(kinds)))
            self.assertEqual([(each.kind, each.text) for each in found], sent)
        self.assertEqual(spoken_words(reply), "See a link. Or a link, now.")

    def test_each_has_an_example_here_and_a_place_in_the_assistant_s_file(self):
        lists = {
            name
            for name, field in Reply.model_fields.items()
            if any(isinstance(each, type) and issubclass(each, Schema)
                   for each in get_args(field.annotation))
            and str(field.annotation).startswith("list")
        }  # fmt: skip
        self.assertEqual(lists, set(EXAMPLES))
        self.assertEqual(set(EXAMPLES) - set(ReplySpec.model_fields), set())
        self.assertEqual(set(Elements.model_fields) - set(AskOut.model_fields), set())

    def test_each_alone_is_a_reply_that_every_network_gets(self):
        for name, example in EXAMPLES.items():
            reply = Reply(**{name: example})
            for kinds in (SENDING, ("text",)):
                with self.subTest(element=name, kinds=len(kinds)):
                    self.assertTrue(planned(reply, kinds))

    def test_a_place_as_the_network_sends_it_and_in_writing(self):
        reply = Reply(text="There.", places=[PIER])
        (_, place) = planned(reply, ("text", "place"))
        self.assertEqual(
            (place.kind, place.text, place.extra),
            ("place", "Pell pier", {"latitude": 57.25, "longitude": -2.5}),
        )
        (_, text) = planned(reply, ("text",))
        self.assertEqual((text.kind, text.text), ("text", "Pell pier: geo:57.25,-2.5"))

    def test_its_name_is_said_once(self):
        self.assertEqual(spoken_words(Reply(places=[PIER])), "Pell pier.")
        self.assertEqual(spoken_words(Reply(text="At Pell Pier.", places=[PIER])), "At Pell Pier.")
        marked = Reply(spoken="<speak>There.</speak>", places=[PIER])
        self.assertEqual(spoken_words(marked), "There. Pell pier.")


class InATurn(Driving):
    assistant = DESK

    async def test_of_the_assistant_s_file(self):
        turn_id = await self.arrive("m1", text="where is the pier")
        await self.driver.work(turn_id)
        self.assertEqual(
            [(each.kind, each.text) for each in self.sent],
            [("text", "It is behind the rope works."), ("text", "Pell pier: geo:57.25,-2.5")],
        )
        self.world.channel.abilities = Abilities(frozenset(("text", "place")))
        self.sent.clear()
        turn_id = await self.arrive("m2", text="where is the pier")
        await self.driver.work(turn_id)
        self.assertEqual([each.kind for each in self.sent], ["text", "place"])
        self.assertEqual(self.sent[1].facts["latitude"], 57.25)

    async def test_said_again_it_comes_again(self):
        await self.driver.work(await self.arrive("m1", text="where is the pier"))
        self.sent.clear()
        await self.driver.work(await self.arrive("m2", text="say that again"))
        self.assertIn("Pell pier: geo:57.25,-2.5", [each.text for each in self.sent])
