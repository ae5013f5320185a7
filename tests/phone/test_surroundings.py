"""Calls from a loudspeaker in a room, and from beside other people: what we play comes back to us,
and we do not answer ourselves."""

import asyncio

from fond_echo.softphone.handset import handset
from fond_echo.softphone.room import Surroundings
from tests.support.phone import OnAPhone
from tests.support.warbles import warble


class Surrounded(OnAPhone):
    async def test_an_echo_of_our_own_cuts_nobody_off(self):
        for decibels, delay in ((-12.0, 100.0), (-20.0, 240.0), (-30.0, 60.0)):
            with self.subTest(decibels):
                around = Surroundings(decibels, delay)
                async with handset(around=around) as caller:
                    await caller.dial(self.number())
                    await self.hears(caller, "tern sound ferries")
                    await asyncio.sleep(0.5)
                    await caller.say(warble("How much is a ticket?"))
                    await self.hears(caller, "four pounds")
                    await asyncio.sleep(0.5)
                await self.call()
        # Where the machine is busy, an echo may come later than any does; it must not go on.
        self.assertLessEqual((await self.events()).count("said"), 5)
        turns = await self.turns()
        self.assertEqual(turns.count(("speech", "fares", "answered")), 3, turns)

    async def test_who_speaks_over_it_is_heard(self):
        async with handset(around=Surroundings(-20.0, 100.0)) as caller:
            await caller.dial(self.number())
            await asyncio.sleep(1.2)
            await caller.say(warble("How much is a ticket?"))
            await self.hears(caller, "four pounds")
