"""Calls carried by a process of their own: what they need comes over the link."""

import asyncio
import os
import signal
import unittest
from datetime import UTC, datetime

from fond_echo.documents.call_handling import Speaking
from fond_echo.phone.errors import LinkClosed
from fond_echo.phone.remote import BackendHandlers
from fond_echo.running.media import Media
from fond_echo.settings import Settings
from fond_echo.softphone.handset import handset
from tests.support.phone import PHONE, OnAPhone
from tests.support.warbles import warble

SPEAKING = Speaking("tern", "Tern Sound Ferries.")


class Apart(OnAPhone):
    def connector(self, port, media):
        return (PHONE % (port, media, media + 9)).rstrip()[:-1] + ", record: true}\n"

    async def listen(self):
        settings = Settings(database="postgresql://nobody@127.0.0.1/none", speech_token="t" * 32)
        self.media = Media(BackendHandlers(self.backend), settings)
        await self.media.begin()
        self.addAsyncCleanup(self.media.stop)
        await self.media.open("test-channel", self.text, SPEAKING, {})

    async def stop(self):
        """Its process is stopped."""

    async def test_a_call_is_heard_answered_recorded_and_written_down(self):
        async with handset() as caller:
            await caller.dial(self.number())
            await self.hears(caller, "tern sound ferries")
            await caller.say(warble("When is the next boat to Pell?"))
            await self.hears(caller, "the boat leaves at noon")
            caller.press("3")
            await self.hears(caller, "four pounds")
            await caller.say(warble("Goodbye."))
            await self.hears(caller, "fair winds")
            await asyncio.wait_for(caller.over.wait(), 10)
        call = await self.call()
        kinds = [each["kind"] for each in call.timeline if each["kind"] != "barge-in"]
        self.assertEqual(
            kinds,
            ["ringing", "answered", "greeted", "said", "key", "said", "recorded", "ended"],
        )  # fmt: skip
        self.assertEqual((call.cause, call.by), ("hung-up", "us"))
        self.assertGreater(call.quality["r_factor"], 20)
        self.assertGreater(len(call.waveforms["theirs"]), 50)
        found = await self.media.look("test-channel")
        self.assertEqual((found.state, found.loop["calls"]), ("open", 0))
        self.assertGreater(found.loop["late_ms_p999"], 0.0)

    async def test_a_port_that_is_taken_is_told_as_such(self):
        with self.assertRaises(OSError):
            await self.media.open("other-channel", self.text, SPEAKING, {})

    async def test_a_process_that_dies_leaves_calls_that_the_next_one_ends(self):
        async with handset() as caller:
            await caller.dial(self.number())
            await self.hears(caller, "tern sound ferries")
            os.kill(self.media.pid, signal.SIGKILL)
            await asyncio.wait_for(self.media.gone(), 10)
            with self.assertRaises(LinkClosed):
                await self.media.look("test-channel")
            await self.listen()
            await asyncio.wait_for(caller.over.wait(), 10)
        self.assertEqual((await self.call()).cause, "lost")

    async def test_when_its_parent_goes_calls_are_ended(self):
        async with handset() as caller:
            await caller.dial(self.number())
            await self.hears(caller, "tern sound ferries")
            self.media.leave()
            await asyncio.wait_for(caller.over.wait(), 10)
            self.assertLess(
                (datetime.now(UTC) - (await self.call("answered")).requested_at).seconds, 60
            )


if __name__ == "__main__":
    unittest.main()
