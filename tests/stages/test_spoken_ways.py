"""How a reply is said: markup, a prosody and a voice of its own, sounds within, letters without any."""

from fond_echo.contract.reply import Reply, SpokenProsody
from fond_echo.core.audio.containers import decode, encode
from fond_echo.documents.media import as_text
from fond_echo.speech.errors import SpeechUnreachable
from tests.sounds import tone
from tests.support.driving import Driving, note

DESK = """\
assistant: test-desk
voice: tern
prosody: {rate: 1.2}
logic:
  desk: {url: "http://127.0.0.1:1/logic", key: {secret: desk-mark}}
routes:
  - route: fares
    examples: [How much is a ticket?]
    reply: {logic: desk.fares, safe: true}
fallback:
  reply: {text: I know about fares.}
"""


class Ways(Driving):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.horn = encode(tone(1.0), "mp3")
        await self.publish(DESK, {"sounds/horn.mp3": as_text(self.horn)})
        self.number = 0
        self.asked = []
        speak = self.world.speech.speak

        def noted(text, voice, **given):
            self.asked.append((text, voice, given))
            return speak(text, voice, **given)

        self.world.speech.speak = noted

    async def answered(self, reply):
        self.number += 1
        self.sent.clear()
        self.world.logic.answer = lambda requested: reply
        turn_id = await self.arrive(f"m{self.number}", sound=note("How much is a ticket?"))
        await self.driver.work(turn_id)
        spoken = next(s for s in await self.stages(turn_id) if s.name == "speak")
        return await self.turn(turn_id), spoken.output

    async def test_markup_is_spoken_and_its_words_are_written(self):
        markup = "<speak>Four <emphasis>pounds</emphasis>, Isla.</speak>"
        turn, spoken = await self.answered(Reply(text=markup))
        self.assertEqual((self.sent[0].kind, self.sent[0].text), ("voice", "Four pounds, Isla."))
        self.assertEqual([part["text"] for part in spoken["parts"]], ["four pounds", "isla"])
        self.assertEqual((self.asked[0][0], spoken["warnings"]), (markup, []))
        self.assertEqual(turn.state, "answered")

    async def test_the_folder_s_sounds_are_played_and_words_stand_in_for_others(self):
        markup = "<speak>Hark <audio src='sounds/horn.mp3'>a horn</audio> <audio src='x'>a bell</audio></speak>"
        _, spoken = await self.answered(Reply(spoken=markup))
        self.assertEqual([part["text"] for part in spoken["parts"]], ["hark", "", "a bell"])
        self.assertGreater(decode(self.sent[0].data).clip.seconds, 1.6)

    async def test_a_reply_s_own_voice_and_manner_come_before_the_assistant_s(self):
        await self.answered(Reply(text="Four pounds."))
        own = SpokenProsody(rate=0.8, pitch=2.0, volume=-6.0)
        await self.answered(Reply(text="Four pounds.", voice="eider", prosody=own))
        (_, usual, first), (_, voice, second) = self.asked
        self.assertEqual((usual, first["prosody"].rate), ("tern", 1.2))
        prosody = second["prosody"]
        self.assertEqual(
            (voice, prosody.rate, prosody.pitch, prosody.volume), ("eider", 0.8, 2.0, -6.0)
        )

    async def test_letters_without_sounds_are_warned_of_and_never_an_empty_voice_note(self):
        turn, spoken = await self.answered(Reply(text="Привет"))
        self.assertEqual((self.sent[0].kind, self.sent[0].text), ("text", "Привет"))
        self.assertEqual(
            spoken["warnings"],
            ["nothing can be said for the letters Привет: it was answered in writing"],
        )
        self.assertEqual((turn.state, turn.error), ("answered", None))
        _, spoken = await self.answered(Reply(text="Hello Привет"))
        self.assertEqual(self.sent[0].kind, "voice")
        self.assertEqual(spoken["warnings"], ["nothing can be said for the letters Привет"])

    async def test_one_such_letter_is_no_reason_to_write_where_the_speech_process_is_away(self):
        speak = self.world.speech.speak

        async def gone(*args, **fields):
            raise SpeechUnreachable("restarting")
            yield

        self.world.speech.speak = gone
        self.world.logic.answer = lambda requested: Reply(text="The Ж boat leaves at noon.")
        turn_id = await self.arrive("m7", sound=note("How much is a ticket?"))
        await self.driver.work(turn_id)
        self.assertEqual((await self.turn(turn_id)).state, "received")
        self.world.speech.speak = speak
        await self.driver.work(turn_id)
        self.assertEqual(self.sent[-1].kind, "voice")
