"""Which engine is asked for what."""

import unittest
from types import SimpleNamespace
from unittest import mock

from docs.examples.lamp import LAMP
from fond_echo.core.audio.clip import silence
from fond_echo.core.recognition.transcript import Expected
from fond_echo.engines.chosen import ChosenRecognizer, ChosenSynthesizer
from fond_echo.engines.errors import EngineMisnamed, NoEngine
from fond_echo.engines.order import EngineOrder
from fond_echo.engines.registry import Engine, Engines, Wanted, installed
from tests.support.world import LocalSpeech


class Named:
    """An engine that says who it is."""

    def __init__(self, name, purpose):
        self.name, self.purpose, self.closed = name, purpose, False

    async def transcribe(self, clip, expected, *, language, long):
        return f"{self.name} heard {language} for {self.purpose}"

    async def speak(self, text, voice, *, seed, sounds=(), language="en", **_):
        yield f"{self.name} says {text}"

    async def close(self):
        self.closed = True


def engine(name, kind, **more):
    return Engine(name, kind, lambda context, purpose: Named(f"{context}-{name}", purpose), **more)


OURS = (
    engine("built-in", "transcribe", languages=frozenset(["en"]), built_in=True),
    engine("built-in", "speak", built_in=True),
    engine("wharf", "transcribe", languages=frozenset(["fr", "en"])),
)


class Registry(unittest.IsolatedAsyncioTestCase):
    def names(self, kind, language="", names=()):
        engines = Engines("here", OURS)
        return [each.name for each in engines.find(kind, Wanted(language), names)]

    def test_what_is_installed_is_not_chosen_by_that(self):
        self.assertEqual(self.names("transcribe", "fr"), ["here-wharf"], "ours knows none of it")
        self.assertEqual(self.names("transcribe", "en"), ["here-built-in"])
        self.assertEqual(self.names("transcribe"), ["here-built-in"])
        both = ["wharf", "built-in"]
        for names in (both, both[::-1]):
            found = self.names("transcribe", "en", names)
            self.assertEqual(found, [f"here-{name}" for name in names], "in the order given")
        self.assertEqual(self.names("speak", "xx"), ["here-built-in"], "it says no languages")
        self.assertEqual(self.names("transcribe", "en", ["built-in"]), ["here-built-in"])

    def test_where_there_is_none_it_is_said_which_there_are(self):
        with self.assertRaisesRegex(NoEngine, "no engine can transcribe de") as found:
            self.names("transcribe", "de")
        self.assertEqual(found.exception.remedy, "there is: built-in, wharf")
        with self.assertRaisesRegex(NoEngine, "draw"):
            self.names("draw")

    async def test_each_is_made_once_for_a_purpose_and_closed(self):
        engines = Engines("here", OURS)
        call, again = (engines.find("speak", Wanted(purpose="call"))[0] for _ in range(2))
        note = engines.find("speak", Wanted())[0]
        self.assertIs(call, again)
        self.assertIsNot(call, note)
        await engines.close()
        self.assertTrue(call.closed and note.closed)

    async def test_the_guide_s_own_speaks_and_hands_on_what_it_cannot(self):
        entries = (*OURS, LAMP)
        engines = Engines("here", entries)
        lamp = engines.find("speak", Wanted("en"), ["lamp"])[0]
        sounds = [each async for each in lamp.speak("SOS, at once.", "lantern", seed=1)]
        self.assertEqual([each.text for each in sounds], ["sos,", "at", "once."])
        quick = engines.find("speak", Wanted("en", purpose="call"), ["lamp"])[0]
        (call,) = [each async for each in quick.speak("SOS", "lantern", seed=1)]
        self.assertLess(call.clip.seconds, 0.6 * sounds[0].clip.seconds)
        self.assertAlmostEqual(float(abs(sounds[0].clip.samples).max()), 0.4, places=2)
        self.assertEqual(
            [each.name for each in engines.find("speak", Wanted("en"))], ["here-built-in"]
        )
        whole = Engine("whole", "speak", lambda *_: LocalSpeech())
        there = Engines("here", [LAMP, whole])
        order = EngineOrder(
            {"speak": ["lamp", "whole"]}, {},
            lambda kind, name: there.find(kind, Wanted("en"), [name])[0],
        )  # fmt: skip
        said = [each async for each in order.speak("4471.", "tern", "en", {"seed": 1})]
        self.assertIn("seventy one", said[0].text)

    async def test_the_language_of_what_is_heard_chooses(self):
        engines = Engines("here", OURS)
        recognizer = ChosenRecognizer(engines, Wanted(purpose="call"))
        for language, name in (("fr", "wharf"), ("en", "built-in")):
            heard = await recognizer.transcribe(
                silence(1.0, 8_000), Expected(), language=language, long=False
            )
            self.assertEqual(heard, f"here-{name} heard {language} for call")
        synthesizer = ChosenSynthesizer(engines, Wanted())
        self.assertEqual(
            [part async for part in synthesizer.speak("hello", "tern", seed=1)],
            ["here-built-in says hello"],
        )

    def test_two_of_one_name_are_refused(self):
        with self.assertRaisesRegex(EngineMisnamed, "two engines that speak are named 'built-in'"):
            Engines("here", [*OURS, engine("built-in", "speak")])

    def test_packages_offer_engines_and_what_is_none_is_refused(self):
        def points(*loads):
            found = [SimpleNamespace(name="pier", load=load) for load in loads]
            return mock.patch("fond_echo.engines.registry.entry_points", lambda group: found)

        pier = engine("pier", "speak")
        with points(lambda: pier):
            self.assertEqual(installed(OURS)[-1], pier)
        with points(lambda: "no engine"), self.assertRaisesRegex(EngineMisnamed, "is no engine"):
            installed(OURS)
        with points(lambda: 1 / 0), self.assertRaisesRegex(EngineMisnamed, "does not load"):
            installed(OURS)


if __name__ == "__main__":
    unittest.main()
