"""Calls are refused while the process with their turns stands still."""

import unittest
from unittest import mock

from fond_echo.phone.remote import STALLED_SECONDS, RemoteBackend
from fond_echo.softphone.handset import handset
from tests.support.phone import OnAPhone


class StandingStill(OnAPhone):
    async def test_no_call_is_let_in_until_it_goes_on(self):
        async with handset() as caller:
            self.backend.is_stalled = True
            await caller.dial(self.number())
            self.assertEqual(caller.ended.status, 503)
        async with handset() as caller:
            self.backend.is_stalled = False
            await caller.dial(self.number())
            await self.hears(caller, "tern sound ferries")


class Signs(unittest.IsolatedAsyncioTestCase):
    async def test_after_so_long_without_a_sign(self):
        backend = RemoteBackend()
        self.assertFalse(backend.is_stalled, "before the first sign nothing is known")
        now = 100.0
        with mock.patch("asyncio.get_running_loop") as loop:
            loop.return_value.time = lambda: now
            backend.handlers["alive"]()
            now += STALLED_SECONDS - 0.1
            self.assertFalse(backend.is_stalled)
            now += 0.2
            self.assertTrue(backend.is_stalled)
            backend.handlers["alive"]()
            self.assertFalse(backend.is_stalled)
