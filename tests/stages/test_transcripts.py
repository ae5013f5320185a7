"""Long voice notes: what was said comes back in writing, with a summary, and how far it has come."""

import asyncio
import dataclasses
from unittest import mock

from fond_echo.contract.channel import PleaseWait
from fond_echo.contract.turn import Heard, HeardSegment
from fond_echo.core.audio.containers import decode_at, encode
from fond_echo.core.audio.errors import EmptySound, UnknownSound
from fond_echo.core.errors import FondEchoError
from fond_echo.core.progress import reach
from fond_echo.turns.ports import Abilities
from tests.sounds import tone
from tests.support.driving import Driving
from tests.support.world import unhurried

DESK = """\
assistant: test-desk
voice: tern
fallback:
  reply: {transcript: {points: 3, spoken_sentences: 1}}
"""
SENTENCES = (
    "The boat left the quay at ten.", "The engine of the boat was loud on the way.",
    "Somebody lost a hat.", "We corrected the engine of the boat at Pell.", "Then it rained.",
    "The engine of the boat runs well again.",
)  # fmt: skip


class Hears:
    """Hears sentences that last ten seconds each, and says how far it is."""

    def __init__(self, sentences, pause=0.0):
        self.sentences, self.pause = sentences, pause

    async def transcribe(self, clip, expected, *, language, long):
        for number in range(len(self.sentences)):
            reach(10.0 * (number + 1), 10.0 * len(self.sentences))
            await asyncio.sleep(self.pause)
        return Heard(
            spoken=" ".join(self.sentences).lower(), written=" ".join(self.sentences),
            confidence=0.4, source="dictation",
            segments=[HeardSegment(text=text, start=10.0 * n, end=10.0 * n + 9.0)
                      for n, text in enumerate(self.sentences)],
        )  # fmt: skip


class Helper:
    def __init__(self, fails=False):
        self.asked, self.fails = [], fails

    def can(self, kind):
        return kind == "summarize"

    async def summarize(self, text, language, sentences):
        self.asked.append(len(text))
        if self.fails:
            raise FondEchoError("no")
        return "The engine was corrected at Pell. It runs well."


class Transcripts(Driving):
    assistant = DESK
    settings = unhurried().model_copy(update={"please_wait": PleaseWait(after=50.0)})
    count = 0

    async def report(
        self, sentences=SENTENCES, seconds=4.0, pause=0.0, limit=4_000, kinds=(), **needs
    ):
        self.world.speech.transcribe = Hears(sentences, pause).transcribe
        self.world.channel.abilities = Abilities(
            frozenset(("text", "voice", "file", *kinds)), text_characters=limit
        )
        plain = self.world.needs

        async def given(*arguments):
            return dataclasses.replace(await plain(*arguments), **needs)

        with mock.patch.object(self.world, "needs", given):
            self.count += 1
            turn_id = await self.arrive(f"n{self.count}", sound=encode(tone(seconds), "ogg"))
            await self.driver.work(turn_id)
        return {each.name: each.output for each in await self.stages(turn_id)}

    async def test_points_with_their_times_and_the_whole(self):
        found = await self.report()
        (part,) = found["answer"]["parts"]
        head, *points = part["text"].partition("\n\n")[0].splitlines()
        self.assertEqual(head, "59 s; the sentences that tell most:")
        self.assertEqual(len(points), 3)
        self.assertIn("- 0:30 We corrected the engine of the boat at Pell.", points)
        for sentence in SENTENCES:
            self.assertIn(sentence, part["text"])
        self.assertEqual(part["spoken"], points[0][7:])

    async def test_what_is_too_long_for_the_channel_goes_as_a_file(self):
        many = [f"{text[:-1]} on day {n}." for n in range(60) for text in SENTENCES]
        found = await self.report(many, limit=500)
        (part,) = found["answer"]["parts"]
        (attached,) = part["attachments"]
        self.assertEqual(attached["name"], "transcript.txt")
        self.assertLess(len(part["text"]), 500)
        self.assertIn("All that was said is in the file.", part["text"])
        text = (await self.world.clips.load(attached["clip"])).decode()
        self.assertIn("[0:00]\nThe boat left the quay at ten on day 0.", text)
        self.assertIn("runs well again on day 59.", text)
        sent = next(each for each in self.sent if each.kind == "file")
        self.assertEqual(sent.data.decode(), text)

    async def test_an_engine_summarizes_piece_by_piece_and_then_the_pieces(self):
        many = [f"{text[:-1]} on day {n}." for n in range(60) for text in SENTENCES]
        helper = Helper()
        found = await self.report(many, helper=helper)
        text = found["answer"]["parts"][0]["text"]
        self.assertRegex(text, r"^60 min, in points:\n- [\d:]+ The engine was corrected at Pell\.")
        self.assertGreater(len(helper.asked), 2)
        self.assertTrue(all(each <= 6_100 for each in helper.asked), helper.asked)
        self.assertLess(helper.asked[-1], 1_000)

    async def test_where_the_engine_fails_our_own_picks_and_says_so(self):
        found = await self.report(helper=Helper(fails=True))
        self.assertIn("the sentences that tell most", found["answer"]["parts"][0]["text"])

    async def test_few_sentences_are_given_back_as_they_are(self):
        found = await self.report(SENTENCES[:2])
        (part,) = found["answer"]["parts"]
        self.assertEqual(part["text"], " ".join(SENTENCES[:2]))

    async def test_who_sends_long_sound_is_told_how_far_it_has_come(self):
        with (
            mock.patch("fond_echo.driver.side_messages.LONG", 3.0),
            mock.patch("fond_echo.driver.side_messages.TOLD_EVERY", 0.15),
        ):
            await self.report(
                pause=0.2, kinds=("edit",), cost_of_hearing=lambda s: (0.006 * s, "EUR")
            )
        first, *edits = [each for each in self.sent if each.kind in ("text", "edit")]
        self.assertEqual(first.text, "That is 0 min of sound. Hearing it costs about 0.02 EUR.")
        how_far = [each.text for each in edits if each.kind == "edit"]
        self.assertTrue(how_far)
        self.assertRegex(how_far[-1], r"^I have heard 1 of 0 min\.$")

    async def test_where_hearing_fails_nothing_is_left_running(self):
        async def fails(*_, **__):
            await asyncio.sleep(0.4)
            raise FondEchoError("it broke")

        with (
            mock.patch("fond_echo.driver.side_messages.LONG", 3.0),
            mock.patch("fond_echo.driver.side_messages.TOLD_EVERY", 0.1),
            mock.patch.object(Hears, "transcribe", fails),
        ):
            async with asyncio.timeout(20):
                await self.report(kinds=("edit", "delete"))

    async def test_longer_than_the_network_takes_where_the_channel_hears_longer(self):
        self.world.channel.abilities = Abilities(frozenset(("text",)), voice_seconds=3.0)
        turn_id = await self.arrive("m1", sound=encode(tone(4.0), "ogg"))
        await self.driver.work(turn_id)
        self.assertIn("too long for me", self.sent[-1].text)
        found = await self.report(seconds=4.0, max_seconds=60.0)
        self.assertIn("transcribe", found)

    def test_a_long_file_is_decoded_at_the_rate_that_is_wanted(self):
        for form in ("ogg", "flac", "wav", "mp3"):
            decoded = decode_at(encode(tone(3.0), form), 16_000)
            self.assertEqual(decoded.clip.rate, 16_000)
            self.assertAlmostEqual(decoded.clip.seconds, 3.0, delta=0.1, msg=form)
            self.assertGreater(decoded.clip.peak, 0.05)
        with self.assertRaises(UnknownSound):
            decode_at(b"no sound at all", 16_000)
        with self.assertRaises(EmptySound):
            decode_at(b"", 16_000)
