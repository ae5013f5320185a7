"""A child that is kept: what it remembers, and what ends it."""

import asyncio
import os
import time
import unittest

from fond_echo.core.errors import Exhausted, FondEchoError
from fond_echo.kept_process import KeptProcess

_remembered = []


def remember(what):
    _remembered.append(what)
    return list(_remembered)


def burn(seconds):
    begun = time.process_time()
    while time.process_time() - begun < seconds:
        pass
    return os.getpid()


def fail():
    raise FondEchoError("it cannot be done")


class Kept(unittest.IsolatedAsyncioTestCase):
    def setUp(self):
        self.kept = KeptProcess(memory=2**28, cpu_seconds=2)
        self.addCleanup(self.kept.close)

    async def test_it_remembers(self):
        self.assertEqual(await self.kept.run(remember, 1), [1])
        self.assertEqual(await self.kept.run(remember, 2), [1, 2])

    async def test_each_piece_of_work_has_a_limit_of_its_own(self):
        pids = {await self.kept.run(burn, 0.9) for _ in range(4)}
        self.assertEqual(len(pids), 1, "3.6 s in all, and none over 2")

    async def test_what_takes_too_much_ends_it_and_the_next_is_done_by_another(self):
        first = await self.kept.run(os.getpid)
        with self.assertRaises(Exhausted):
            await self.kept.run(burn, 60.0)
        second = await self.kept.run(os.getpid)
        self.assertNotEqual(first, second)
        with self.assertRaises(Exhausted):
            await self.kept.run(bytearray, 2**30)
        self.assertNotEqual(await self.kept.run(os.getpid), second)

    async def test_an_error_of_its_own_kind_comes_back(self):
        with self.assertRaisesRegex(FondEchoError, "cannot be done"):
            await self.kept.run(fail)

    async def test_what_comes_meanwhile_does_not_wait(self):
        await self.kept.run(os.getpid)
        long = asyncio.create_task(self.kept.run(burn, 1.5))
        await asyncio.sleep(0.05)
        other = await self.kept.run(os.getpid)
        self.assertFalse(long.done())
        self.assertNotEqual(other, await long)

    async def test_whoever_gives_up_waiting_leaves_it_in_order(self):
        pid = await self.kept.run(os.getpid)
        with self.assertRaises(TimeoutError):
            await asyncio.wait_for(self.kept.run(burn, 0.5), 0.1)
        self.assertEqual(await self.kept.run(os.getpid), pid)
