"""Sentences that are spoken while the rest of the answer is still being written."""

import asyncio
import unittest
from types import SimpleNamespace

from fond_echo.core.audio.clip import silence
from fond_echo.core.errors import FondEchoError
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.driver.streamed_speech import MAX_WAITING, SpeakingAhead

ASSISTANT = SimpleNamespace(
    voice="tern", pronounced=(), language="en",
    prosody=SimpleNamespace(rate=1.0, pitch=0.0, volume=0.0),
    says=SimpleNamespace(text=lambda name: "a link"),
)  # fmt: skip


class Voice:
    """Speaks until it is told to fail."""

    def __init__(self, fails_at=-1):
        self.said, self.fails_at = [], fails_at

    async def speak(self, text, voice, **fields):
        await asyncio.sleep(0)
        if len(self.said) == self.fails_at:
            raise FondEchoError("the voice is gone")
        self.said.append(text)
        yield SpokenSound(silence(0.1, 16_000), text)


class Ahead(unittest.IsolatedAsyncioTestCase):
    def ahead(self, voice):
        self.used = []

        async def use(part):
            self.used.append(part.text)

        turn = SimpleNamespace(assistant=ASSISTANT, seed=1)
        return SpeakingAhead(turn, SimpleNamespace(synthesizer=voice), use)

    async def test_in_order_and_what_is_left(self):
        ahead = self.ahead(Voice())
        for sentence in ("Yes.", "No.", "Yes."):
            await ahead.say(sentence)
        await ahead.finish()
        self.assertEqual(self.used, ["Yes.", "No.", "Yes."])
        self.assertEqual(ahead.left_of("Yes. No.  Yes. And more."), "And more.")

    async def test_where_it_fails_the_rest_is_left_though_it_was_said_before_word_for_word(self):
        ahead = self.ahead(Voice(fails_at=2))
        for sentence in ("Yes.", "No.", "Yes."):
            await ahead.say(sentence)
        await ahead.finish()
        self.assertIsNotNone(ahead.error)
        self.assertEqual(ahead.sentences, ["Yes.", "No."])
        self.assertEqual(ahead.left_of("Yes. No. Yes."), "Yes.")

    async def test_one_that_fails_holds_up_nobody_who_goes_on_writing(self):
        ahead = self.ahead(Voice(fails_at=0))
        async with asyncio.timeout(5):
            for number in range(3 * MAX_WAITING):
                await ahead.say(f"Sentence {number}.")
            await ahead.finish()
        self.assertEqual((self.used, ahead.sentences), ([], []))

    async def test_nothing_said_is_nothing_to_wait_for(self):
        ahead = self.ahead(Voice())
        await ahead.finish()
        ahead.stop()
        self.assertEqual(ahead.left_of("All of it."), "All of it.")


if __name__ == "__main__":
    unittest.main()
