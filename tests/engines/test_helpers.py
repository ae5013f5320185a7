"""Engines that summarize, translate and draw, against the provider; and the replies that use them."""

import unittest
from types import MappingProxyType

from fond_echo.connectors.errors import WrongAnswer
from fond_echo.documents.media import as_text, picture_type
from fond_echo.engines.chosen import ChosenHelper
from fond_echo.engines.described import Asking
from fond_echo.standins.providers.drawing import draw
from fond_echo.turns.needs import Needs
from tests.support.driving import Driving
from tests.support.engines import Gannet, engine_file
from tests.support.world import PlainDecoder

LONG = (
    "The Petrel left at six. It was calm. At berth No. 4 a rope was frayed and has been changed. "
    "Two dogs came along. The rope for berth No. 4 must be ordered anew before Friday."
)

DESK = """\
assistant: test-desk
voice: tern
engines: {translate: [quay-tongues], draw: [quick-pencil], summarize: [short-hand]}
routes:
  - route: mooring
    examples: [What do I call to the quay?]
    reply: {text: Make fast the rope., translate_to: tsl}
  - route: say-it
    examples: [Where is the boat]
    reply: {translate_to: tsl}
  - route: picture
    examples: [Show me the harbour.]
    reply: {text: This is it., draw: "a boat, {{ turn.text }}"}
  - route: timetable
    examples: [Send me the timetable.]
    reply:
      text: Here it is.
      attachments: [{file: timetable.png, name: Timetable}]
fallback:
  reply: {text: I know about boats.}
"""


class Asked(unittest.IsolatedAsyncioTestCase):
    async def test_each_does_what_it_does_and_costs(self):
        gannet, asking = Gannet(), Asking()
        short = await gannet.engine("short-hand").summarize(LONG, "en", 2, asking)
        self.assertIn("berth No. 4", short)
        self.assertLess(len(short), len(LONG))
        other = await gannet.engine("quay-tongues").translate(
            "The wind is falling", "en", "tsl", asking
        )
        self.assertEqual(other, "Vinna minkar")
        picture = await gannet.engine("quick-pencil").draw("boats at night", "en", asking)
        self.assertEqual(picture.media_type, "image/png")
        self.assertEqual(picture_type(picture.data), "image/png")
        self.assertEqual(len(asking.exchanges), 3)
        self.assertGreater(asking.cost, 0.01)

    async def test_what_is_no_picture_and_what_is_empty(self):
        gannet = Gannet()
        with self.assertRaisesRegex(WrongAnswer, "not a picture"):
            engine = gannet.engine("quick-pencil", ("/pictures", "/points"), ("$.seen", "$.short"),
                                   ("scene", "words"))  # fmt: skip
            await engine.draw("Ym9hdHM=", "en", Asking())
        with self.assertRaisesRegex(WrongAnswer, "empty"):
            await gannet.engine("short-hand").summarize(" ", "en", 2, Asking())


class Replies(Driving):
    assistant = DESK
    more_files = MappingProxyType({"timetable.png": as_text(draw("rain"))})

    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.gannet, world = Gannet(), self.world
        plain = world.needs
        world.channel.abilities = type(world.channel.abilities)(
            frozenset(("text", "voice", "picture", "file"))
        )

        async def needs(channel, now, assistant=None):
            found = await plain(channel, now)
            order = self.gannet.order("translate", "quay-tongues")
            names = assistant.engines.of()
            connected = dict(order.connected)
            for each in ("quick-pencil", "short-hand"):
                connected |= self.gannet.order("draw", each).connected
            order.names, order.connected = names, connected
            return Needs(
                found.channel, found.recognizer, found.synthesizer, PlainDecoder(), found.clips,
                found.logic, now, helper=ChosenHelper(order), asked=order.taken,
            )  # fmt: skip

        world.needs = needs

    async def ask(self, text):
        turn_id = await self.arrive(f"m-{text}", text=text)
        await self.driver.work(turn_id)
        return await self.turn(turn_id)

    async def test_a_translation_of_the_reply_and_of_what_was_said(self):
        await self.ask("What do I call to the quay?")
        self.assertEqual(self.sent[-1].text, "Haldo fest reppa.")
        await self.ask("Where is the boat")
        self.assertEqual(self.sent[-1].text, "Kvar ar skuta")

    async def test_a_picture_goes_along(self):
        await self.ask("Show me the harbour.")
        text, picture = self.sent[-2:]
        self.assertEqual((text.kind, text.text), ("text", "This is it."))
        self.assertEqual((picture.kind, picture.media_type), ("picture", "image/png"))
        self.assertEqual(picture_type(picture.data), "image/png")

    async def test_a_file_of_the_folder_goes_along_under_its_name(self):
        await self.ask("Send me the timetable.")
        self.assertEqual(self.sent[-1].name, "Timetable")
        self.assertEqual(self.sent[-1].data, draw("rain"))

    async def test_an_engine_that_fails_leaves_an_apology(self):
        await self.gannet.fault("/pictures", "broken")
        turn = await self.ask("Show me the harbour.")
        self.assertEqual((turn.state, turn.error["code"]), ("failed", "engines-failed"))
        self.assertTrue(self.sent[-1].text)


class Files(unittest.TestCase):
    def test_attachments_that_are_not_there_or_not_what_they_are_called(self):
        from fond_echo.documents.errors import InvalidFile
        from fond_echo.documents.reading import read_assistant

        files = {"assistant.yaml": DESK, "timetable.png": as_text(draw("rain"))}
        self.assertTrue(read_assistant(files))
        with self.assertRaisesRegex(InvalidFile, "no file 'timetable.png'"):
            read_assistant({"assistant.yaml": DESK})
        with self.assertRaisesRegex(InvalidFile, "not what its name says"):
            read_assistant({**files, "timetable.png": as_text(b"%PDF-1.7")})

    def test_the_demo_has_each_kind(self):
        for name in ("quay-tongues", "short-hand", "quick-pencil"):
            self.assertIn("engine:", engine_file(name))


if __name__ == "__main__":
    unittest.main()
