"""A language that nobody speaks works as ours does: in writing, by voice, in a dialogue, and in what
the service itself says; nothing but its one object knows of it."""

import unittest

from fond_echo.core.audio.clip import join
from fond_echo.core.audio.containers import decode, encode
from fond_echo.core.language import registry
from fond_echo.core.language.errors import UnknownLanguage
from fond_echo.core.language.registry import codes
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.reading import read_assistant
from fond_echo.speech import material
from fond_echo.speech.material import recognizer, synthesizer
from tests.made_up import LANGUAGE
from tests.support.driving import Driving

DESK = """\
assistant: test-desk
language: qod
voice: tern
routes:
  - route: fares
    examples: [Kva kostar bileto, Ki preso an bileto]
    reply: {text: Bileto kostar 4 kron.}
  - route: book
    examples: [Reserv an plaso]
    slots:
      count: {kind: number, ask: Kva mang?, confirm: true}
    read_back: "{{ slots.count }} plaso, ja?"
    reply: {text: "{{ slots.count }} plaso reservat."}
fallback:
  reply: {text: Spor om bileto.}
"""


def setUpModule():
    registry.add(LANGUAGE)


def tearDownModule():
    registry._ADDED.pop(LANGUAGE.code)
    for each in (material._lexicon, material._recognizer, material._synthesizer):
        each.cache_clear()


def note(text):
    spoken = synthesizer("qod").speak(text, "curlew")
    return encode(join([part.clip for part in spoken]), "ogg")


class Conversation(Driving):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.publish(DESK)
        self.count = 0

    async def says(self, text="", sound=None):
        self.count += 1
        turn_id = await self.arrive(f"m{self.count}", text, sound)
        await self.driver.work(turn_id)
        return await self.turn(turn_id), self.sent[-1]

    async def test_texts_are_understood_asked_about_and_answered(self):
        turn, sent = await self.says("Hei, kva kostar bileto?")
        self.assertEqual((turn.route, sent.text), ("fares", "Bileto kostar 4 kron."))
        _, sent = await self.says("reserv an plaso")
        self.assertEqual(sent.text, "Kva mang?")
        _, sent = await self.says("tva tiv tri")
        self.assertEqual(sent.text, "23 plaso, ja?\n\n1. Ja\n2. Nei")
        turn, sent = await self.says("ja")
        self.assertEqual((turn.route, sent.text), ("book", "23 plaso reservat."))
        _, sent = await self.says("farvo")
        self.assertEqual(sent.text, "Farvo.")

    async def test_a_voice_note_is_heard_and_answered_by_voice(self):
        turn, sent = await self.says(sound=note("Kva kostar bileto?"))
        self.assertEqual((turn.text, turn.route), ("Kva kostar bileto.", "fares"))
        clip = decode(sent.data).clip
        words = recognizer("qod").transcribe(
            clip, Expected(("Bileto kostar fir kron", "Bileto kostar fem kron", "Farvo"), only=True)
        )
        self.assertEqual(words.spoken, "bileto kostar fir kron")

    async def test_the_service_speaks_it_and_english_where_it_says_nothing(self):
        says = read_assistant({"assistant.yaml": DESK}).says
        self.assertEqual(says.text("not-sure"), "Eg tvilar.")
        self.assertEqual(says.text("never-mind"), "All right.")


class Registry(unittest.TestCase):
    def test_sets_are_told_apart_by_its_own_letters(self):
        phrases = ("Reserv an plaso", "Kva kostar bileto", "Ja", "Nei", "Farvo", "Tri tiv fem")
        for phrase in phrases:
            spoken = synthesizer("qod").speak(phrase, "eider")
            clip = join([part.clip for part in spoken])
            heard = recognizer("qod").transcribe(clip, Expected(phrases, only=True))
            self.assertEqual(heard.spoken, " ".join(LANGUAGE.writing.spoken_tokens(phrase)))

    def test_an_unknown_one_is_refused_where_it_stands(self):
        self.assertEqual(codes(), ("en", "qod"))
        self.assertIs(registry.language("qod-XX"), LANGUAGE)
        with self.assertRaisesRegex(UnknownLanguage, r"'fr' is not known \(use en, qod\)"):
            registry.language("fr")
        with self.assertRaisesRegex(InvalidFile, "assistant.yaml:2:11: the language 'fr'"):
            read_assistant({"assistant.yaml": DESK.replace("qod", "fr")})
