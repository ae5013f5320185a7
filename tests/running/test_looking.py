"""When something is looked for again."""

import asyncio
import unittest

from fond_echo.background import Looking


class LookingTest(unittest.IsolatedAsyncioTestCase):
    async def lasted(self, looking: Looking, found: object = None) -> float:
        loop = asyncio.get_running_loop()
        begun = loop.time()
        await looking.pause(found)
        return loop.time() - begun

    async def test_pauses_grow_while_there_is_nothing(self):
        looking = Looking(0.02, 0.08)
        lasted = [await self.lasted(looking) for _ in range(4)]
        for seconds, least in zip(lasted, (0.02, 0.04, 0.08, 0.08), strict=True):
            self.assertGreaterEqual(seconds, least * 0.9)

    async def test_what_was_found_makes_it_look_at_once_and_begin_anew(self):
        looking = Looking(0.02, 60.0)
        for _ in range(3):
            await looking.pause(None)
        await looking.pause(True)
        async with asyncio.timeout(5):
            await looking.pause(None)

    async def test_it_is_woken_and_then_looks_soon_again(self):
        looking = Looking(0.01, 60.0)
        looking._pause = 60.0
        asyncio.get_running_loop().call_later(0.02, looking.wake)
        async with asyncio.timeout(5):
            await looking.pause(None)
            await looking.pause(None)

    async def test_being_woken_while_it_looks_is_not_lost(self):
        looking = Looking(0.01, 60.0)
        looking._pause = 60.0
        looking.wake()
        async with asyncio.timeout(5):
            await looking.pause(None)

    async def test_many_wakings_make_one_look(self):
        looking = Looking(0.05, 60.0)
        for _ in range(100):
            looking.wake()
        self.assertGreaterEqual(await self.lasted(looking), 0.045)
        looking._pause = 60.0
        with self.assertRaises(TimeoutError):
            async with asyncio.timeout(0.1):
                await looking.pause(None)
