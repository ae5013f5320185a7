"""What is published is prepared before somebody asks."""

import asyncio

from fond_echo.running.preparing import Preparation
from fond_echo.speech.errors import SpeechUnreachable
from tests.support.driving import Driving
from tests.support.world import ASSISTANT


class Prepares:
    """A speech process that notes what it prepares, and may be away."""

    def __init__(self):
        self.prepared, self.away = [], False

    async def prepare(self, expected, language):
        if self.away:
            raise SpeechUnreachable("away")
        self.prepared.append((expected.phrases, language))


class Preparing(Driving):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.speech = Prepares()
        self.preparation = Preparation(self.database, self.speech, in_call=False)
        running = asyncio.create_task(self.preparation.run())
        self.addCleanup(running.cancel)

    async def until(self, count):
        for _ in range(200):
            if len(self.speech.prepared) >= count:
                break
            await asyncio.sleep(0.02)
        self.assertEqual(len(self.speech.prepared), count)

    async def test_what_is_live_at_once_and_what_is_published_once(self):
        await self.until(2)
        phrases, language = self.speech.prepared[0]
        self.assertIn("How much is a ticket?", phrases)
        self.assertEqual(language, "en")
        await self.publish(ASSISTANT.replace("How much is a ticket?", "What does it cost?"))
        self.preparation.told("assistant.published", "test-desk")
        await self.until(4)
        self.assertIn("What does it cost?", self.speech.prepared[2][0])
        self.preparation.told("assistant.published", "test-desk")
        await asyncio.sleep(0.3)
        self.assertEqual(len(self.speech.prepared), 4, "what did not change is not prepared again")

    async def test_it_is_tried_again_where_the_speech_process_was_away(self):
        await self.until(2)
        self.speech.away = True
        await self.publish(ASSISTANT.replace("How much is a ticket?", "What does it cost?"))
        self.preparation.told("assistant.published", "test-desk")
        await asyncio.sleep(0.4)
        self.assertEqual(len(self.speech.prepared), 2)
        self.speech.away = False
        self.preparation.told("assistant.published", "test-desk")
        await self.until(4)

    async def test_other_engines_hear_it(self):
        await self.until(2)
        await self.publish(ASSISTANT + "engines: {transcribe: [far-ear]}\n")
        self.preparation.told("assistant.published", "test-desk")
        await asyncio.sleep(0.4)
        self.assertEqual(len(self.speech.prepared), 2, "nothing is to be prepared here")
