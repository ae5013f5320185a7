"""Sound that is heard while it is still being packed to be kept."""

import asyncio
from datetime import timedelta

import numpy as np

from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.containers import decode, encode
from fond_echo.core.audio.errors import SoundError
from fond_echo.driver import runner
from fond_echo.driver.speculative_hearing import as_kept
from tests.sounds import noise, speech
from tests.support.driving import Driving, note
from tests.support.world import LocalSpeech


class Noting(LocalSpeech):
    """Hears, and notes what; it may fail, or take longer than anybody waits."""

    def __init__(self):
        self.clips, self.error, self.ended, self.pause = [], None, [], 0.01

    async def transcribe(self, clip, expected, *, language, long):
        self.clips.append(clip)
        try:
            await asyncio.sleep(self.pause)
            if self.error is not None:
                raise self.error
            return await super().transcribe(clip, expected, language=language, long=long)
        finally:
            self.ended.append(True)


class Early(Driving):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.world.recognizer = Noting()
        self.world.hears_early = True

    def test_it_is_the_sound_that_is_kept_to_the_bit(self):
        rng = np.random.default_rng(3)
        loud = np.clip(rng.normal(0, 0.6, 16_000), -1.2, 1.2).astype(np.float32)
        for clip in (Clip(loud, 16_000), speech("The boat is late.")):
            kept = decode(encode(clip, "flac")).clip
            np.testing.assert_array_equal(as_kept(clip).samples, kept.samples)

    async def test_it_is_heard_once_and_as_it_would_be_later(self):
        early = await self.arrive("m1", sound=note())
        await self.driver.work(early)
        self.assertEqual(len(self.world.recognizer.clips), 1)
        (heard,) = self.world.recognizer.clips
        self.world.hears_early = False
        later = await self.arrive("m2", sound=note())
        await self.driver.work(later)
        np.testing.assert_array_equal(heard.samples, self.world.recognizer.clips[1].samples)
        outputs = [
            next(each.output for each in await self.stages(turn) if each.name == "transcribe")
            for turn in (early, later)
        ]
        self.assertEqual(*outputs)
        # It is recorded as begun when it was.
        for turn, early_one in ((early, True), (later, False)):
            spans = {each.name: each for each in await self.stages(turn)}
            decoded = spans["decode"].started_at + timedelta(seconds=spans["decode"].seconds)
            self.assertGreater(spans["transcribe"].started_at, spans["decode"].started_at)
            self.assertEqual(spans["transcribe"].started_at < decoded, early_one)

    async def test_where_hearing_fails_it_is_the_transcribe_stage_that_does(self):
        self.world.recognizer.error = SoundError("it cannot be heard", remedy="say it again")
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        failed = [each for each in await self.stages(turn_id) if each.outcome == "failed"]
        self.assertEqual([each.name for each in failed], ["transcribe"])
        self.assertEqual((await self.turn(turn_id)).state, "failed")
        self.assertEqual(len(self.sent), 1)

    async def test_where_the_sound_cannot_be_kept_nobody_goes_on_hearing_it(self):
        class Full:
            def __init__(self, clips):
                self.clips = clips

            async def keep(self, turn_id, data, media_type, origin, **known):
                if origin == "decoded":
                    raise SoundError("there is no room", remedy="make some")
                return await self.clips.keep(turn_id, data, media_type, origin, **known)

            def __getattr__(self, name):
                return getattr(self.clips, name)

        usual = runner.SoundsOfTurn
        runner.SoundsOfTurn = lambda claim, stored: Full(usual(claim, stored))
        self.addCleanup(setattr, runner, "SoundsOfTurn", usual)
        self.world.recognizer.pause = 60.0
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        failed = [each.name for each in await self.stages(turn_id) if each.outcome == "failed"]
        self.assertEqual(failed, ["decode"])
        await asyncio.sleep(0)
        self.assertEqual(
            (len(self.world.recognizer.clips), self.world.recognizer.ended), (1, [True])
        )

    async def test_long_sound_waits_until_it_is_kept(self):
        clip = join([speech("The boat is late."), noise(61.0)])
        seen = []

        class Looking(Noting):
            async def transcribe(self, clip, expected, *, language, long):
                seen.append(long)
                return await super().transcribe(clip, expected, language=language, long=long)

        self.world.recognizer = Looking()
        await self.driver.work(await self.arrive("m1", sound=encode(clip, "ogg")))
        self.assertEqual(seen, [True])
