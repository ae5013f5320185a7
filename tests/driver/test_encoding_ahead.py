"""A voice note encoded while its reply is spoken: whole, and once for what is said often."""

import unittest
import unittest.mock

from fond_echo.core.audio.clip import join
from fond_echo.core.audio.containers import decode
from fond_echo.core.audio.inspect import inspect
from fond_echo.stages import encode
from fond_echo.stages.encode import EncodingAhead
from tests.sounds import silence_of, tone


async def note(*clips, serial=1):
    ahead = EncodingAhead(serial)
    for clip in clips:
        await ahead.add(clip)
    return await ahead.finish()


class Ahead(unittest.IsolatedAsyncioTestCase):
    def setUp(self):
        encode._made.clear()
        self.parts = tone(0.7, 16_000), silence_of(0.31), tone(1.1, 16_000)

    async def test_it_is_proper_and_as_long_as_its_parts(self):
        made = await note(*self.parts)
        self.assertTrue(inspect(made.data).voice_note)
        self.assertEqual(made.clip.seconds, join(self.parts).seconds)
        self.assertAlmostEqual(decode(made.data).clip.seconds, made.clip.seconds, delta=0.001)

    async def test_what_was_said_before_is_not_encoded_again(self):
        made = await note(*self.parts)
        with unittest.mock.patch.object(EncodingAhead, "_encode", side_effect=AssertionError):
            self.assertIs(await note(*self.parts, serial=2), made)

    async def test_what_goes_on_in_another_way_is_encoded_whole(self):
        await note(*self.parts)
        for others in (
            (self.parts[0], tone(0.5, 16_000)), self.parts[:2], (*self.parts, self.parts[0]),
        ):  # fmt: skip
            made = await note(*others)
            self.assertTrue(inspect(made.data).voice_note)
            self.assertAlmostEqual(
                decode(made.data).clip.seconds, join(others).seconds, delta=0.001
            )

    async def test_nothing_and_sounds_that_do_not_fit_are_left_to_the_stage(self):
        self.assertIsNone(await note())
        self.assertIsNone(await note(tone(0.5, 16_000), tone(0.5, 8_000)))
        self.assertIsNone(await note(tone(0.5, 44_100)))


if __name__ == "__main__":
    unittest.main()
