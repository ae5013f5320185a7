"""The ear for programs: files as a whole, and sound as it comes, from the client to the worker."""

import asyncio
import json

import numpy as np
from websockets.asyncio.client import connect

from fond_echo.client import AsyncFondEcho, Partial, Refused, Unreachable, Utterance
from fond_echo.contract.speech import ListenIn
from fond_echo.core.audio.clip import join
from fond_echo.core.audio.containers import as_int16, encode
from fond_echo.core.audio.resample import at_rate
from fond_echo.engines.registry import EngineSettings
from fond_echo.speech.pool import SpeechPool
from fond_echo.speech.server import create_app
from tests.sounds import silence_of, speech, tone
from tests.support.serving import served
from tests.support.web import ADMIN, WebTest

QUESTION = "When is the next boat to Pell?"


class Files(WebTest):
    async def transcribe(self, data, client=None, **requested):
        return await (client or self.client).post(
            "/api/speech/transcripts", content=data, params=requested
        )

    async def test_words_with_their_times(self):
        data = encode(speech("I would like to book a table for two.", "petrel"), "ogg")
        heard = (await self.transcribe(data)).json()
        self.assertEqual(heard["source"], "dictation")
        self.assertIn("book a table", heard["spoken"])
        self.assertEqual(len(heard["words"]), len(heard["spoken"].split()))

    async def test_what_is_expected_as_phrases_or_by_an_assistant(self):
        await self.fill()
        data = encode(speech(QUESTION, "dunlin"), "wav")
        for requested in ({"phrases": [QUESTION, "Never."]}, {"assistant": "harbour-desk"}):
            heard = (await self.transcribe(data, **requested)).json()
            self.assertEqual((heard["source"], heard["written"]), ("expected", QUESTION))

    async def test_one_of_what_is_expected_is_chosen(self):
        data = encode(speech("When is a boat to Pell?", "dunlin"), "wav")
        heard = (
            await self.transcribe(data, phrases=[QUESTION, "How much is a ticket?"], only="true")
        ).json()
        self.assertEqual((heard["source"], heard["written"]), ("expected", QUESTION))

    async def test_errors(self):
        for data, requested, status, reported in (
            (b"", {}, 422, "no bytes"),
            (b"words, not sound" * 40, {}, 422, "not sound"),
            (encode(tone(1.0), "wav")[:200], {"language": "nl"}, 422, "'nl'"),
            (encode(tone(1.0), "wav"), {"assistant": "nobody"}, 404, "nobody"),
            (encode(tone(1.0), "wav"), {"end_seconds": "9"}, 422, "end_seconds"),
            (encode(tone(1.0), "wav"), {"only": "yes"}, 422, "hearing-nothing-expected"),
        ):
            answer = await self.transcribe(data, **requested)
            self.assertEqual(answer.status_code, status, answer.text)
            self.assertIn(reported, answer.text)
        self.assertEqual((await self.transcribe(b"x", self.nobody)).status_code, 401)
        self.assertEqual(
            (await self.transcribe(encode(tone(1.0), "wav"))).json()["source"], "nothing"
        )


class Streams(WebTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.pool = SpeechPool(2)
        speech_app = create_app(self.pool, "token")
        await self.enterAsyncContext(speech_app.router.lifespan_context(speech_app))
        url = await self.enterAsyncContext(served(speech_app))
        # The built-in engine, with a speech process of this test's.
        engines = self.service.installation.engines
        engines.context = EngineSettings(url, "token", engines.context.client)
        self.address = await self.enterAsyncContext(served(self.app))
        self.echo = await self.enterAsyncContext(AsyncFondEcho(self.address, ADMIN))

    async def samples(self, clip, rate, bytes_each=640):
        data = as_int16(at_rate(clip, rate).samples).tobytes()
        for start in range(0, len(data), bytes_each):
            yield data[start : start + bytes_each]
            await asyncio.sleep(0)

    async def test_words_so_far_and_what_was_said_at_any_rate(self):
        clip = join([speech("The boat is late.", "tern"), silence_of(1.5), speech(QUESTION, "petrel"),
                     silence_of(1.0)])  # fmt: skip
        for rate in (8_000, 16_000, 44_100):
            requested = ListenIn(rate=rate, phrases=[QUESTION, "The boat is late."])
            found = [each async for each in self.echo.listen(self.samples(clip, rate), requested)]
            said = [each.heard.written for each in found if isinstance(each, Utterance)]
            self.assertEqual(said, ["The boat is late.", QUESTION], rate)
            self.assertTrue(any(isinstance(each, Partial) for each in found))

    async def test_what_is_being_said_when_it_is_over(self):
        found = [each async for each in self.echo.listen(self.samples(speech(QUESTION), 16_000))]
        self.assertIsInstance(found[-1], Utterance)
        self.assertEqual(len(found[-1].heard.words), 7)

    async def test_many_at_once_keep_apart(self):
        texts = ["The boat is late.", QUESTION, "Speak to a person.", "How much is a ticket?"]

        async def one(text):
            requested = ListenIn(phrases=texts, only=text in texts[:2])
            found = self.echo.listen(self.samples(speech(text, "curlew"), 16_000, 6_400), requested)
            return [each.heard.written async for each in found if isinstance(each, Utterance)]

        reported = await asyncio.gather(*map(one, texts))
        self.assertEqual(reported, [[text] for text in texts])

    async def test_errors(self):
        for requested, reported in (
            (ListenIn(language="nl"), "'nl'"),
            (ListenIn(assistant="nobody"), "nobody"),
            (ListenIn(only=True), "only what is expected"),
        ):
            with self.assertRaisesRegex(Refused, reported):
                async for _ in self.echo.listen(self.samples(tone(0.1), 16_000), requested):
                    pass
        stranger = AsyncFondEcho(self.address, "guess")
        with self.assertRaisesRegex(Refused, "key with the scope"):
            async for _ in stranger.listen(self.samples(tone(0.1), 16_000)):
                pass
        nowhere = AsyncFondEcho("http://127.0.0.1:1", ADMIN)
        with self.assertRaises(Unreachable):
            async for _ in nowhere.listen(self.samples(tone(0.1), 16_000)):
                pass

    async def test_a_first_message_that_is_none(self):
        headers = {"Authorization": f"Bearer {ADMIN}"}
        url = self.address.replace("http", "ws") + "/api/speech/transcripts"
        for first in ("no json", json.dumps({"rate": 5}), b"\0\0"):
            async with connect(url, additional_headers=headers, proxy=None) as socket:
                await socket.send(first)
                await socket.wait_closed()
            self.assertEqual(socket.close_code, 4400)
            self.assertIn("first message", socket.close_reason)

    async def test_who_goes_away_leaves_nothing_behind(self):
        headers = {"Authorization": f"Bearer {ADMIN}"}
        url = self.address.replace("http", "ws") + "/api/speech/transcripts"
        async with connect(url, additional_headers=headers, proxy=None) as socket:
            await socket.send(ListenIn().model_dump_json())
            await socket.send(np.zeros(8_000, "<i2").tobytes())
        found = [each async for each in self.echo.listen(self.samples(speech(QUESTION), 16_000))]
        self.assertIsInstance(found[-1], Utterance)
        self.assertEqual(self.pool.waiting, 0)
