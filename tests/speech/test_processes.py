"""Speech workers and guarded decoding, with real child processes."""

import asyncio
import os
import signal
import unittest
from dataclasses import dataclass

import httpx
import numpy as np

from fond_echo.core.audio.clip import Clip, join, silence
from fond_echo.core.audio.containers import Limits, encode
from fond_echo.core.audio.errors import BrokenSound, EmptySound, SoundTooLong, UnknownSound
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.graph import WordNetwork
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.errors import UnknownVoice
from fond_echo.speech.decoding import GuardedDecoder
from fond_echo.speech.errors import NotAFrame, SpeechCrashed, SpeechFailed, SpeechUnreachable
from fond_echo.speech.jobs import Hear, Say
from fond_echo.speech.pool import SpeechPool
from fond_echo.speech.priority import Priority
from fond_echo.speech.remote import RemoteSpeech
from fond_echo.speech.server import create_app
from fond_echo.speech.wire import Frames, frame, one_frame
from tests.sounds import noise, speech


@dataclass(frozen=True)
class Tell:
    """A job that notes when it ran."""

    name: str

    def run(self):
        return (self.name, os.getpid())


@dataclass(frozen=True)
class Hang:
    def run(self):
        signal.pause()


@dataclass(frozen=True)
class Break:
    def run(self):
        raise ZeroDivisionError("oops")


class Workers(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        # Long enough for a first run, in which kernels are compiled.
        self.pool = SpeechPool(1, seconds=60.0)
        await self.pool.start()
        self.addAsyncCleanup(self.pool.stop)

    async def test_a_worker_speaks_hears_and_tells_its_errors(self):
        parts, count = await self.pool.run(
            Say("The boat is late.", "tern", None), Priority.VOICE_NOTE
        )
        self.assertEqual((len(parts), count), (1, 1))
        clip = parts[0].clip
        job = Hear(clip.samples, clip.rate, "late", "en", Expected(("The boat is late.",)))
        heard = await self.pool.run(job, Priority.VOICE_NOTE)
        self.assertEqual(heard.spoken, "the boat is late")
        with self.assertRaises(UnknownVoice):
            await self.pool.run(Say("x", "nobody", None), Priority.VOICE_NOTE)
        with self.assertRaisesRegex(FondEchoError, "ZeroDivisionError: oops"):
            await self.pool.run(Break(), Priority.VOICE_NOTE)

    async def test_a_job_that_cannot_be_sent_fails_alone(self):
        with self.assertRaisesRegex(FondEchoError, "cannot be sent to a worker"):
            await self.pool.run(lambda: None, Priority.CALL)
        self.assertEqual((await self.pool.run(Tell("still here"), Priority.CALL))[0], "still here")

    async def test_calls_go_first_then_voice_notes_then_long_files(self):
        order = []

        async def ask(name, priority):
            order.append((await self.pool.run(Tell(name), priority))[0])

        first = asyncio.create_task(ask("first", Priority.LONG_FILE))
        await asyncio.sleep(0.01)
        later = [
            asyncio.create_task(ask(p.name, p))
            for p in (Priority.LONG_FILE, Priority.VOICE_NOTE, Priority.CALL)
        ]
        await asyncio.gather(first, *later)
        self.assertEqual(order[-3:], ["CALL", "VOICE_NOTE", "LONG_FILE"])

    async def test_a_worker_that_dies_or_hangs_is_replaced(self):
        _, pid = await self.pool.run(Tell("who"), Priority.CALL)
        asyncio.get_running_loop().call_later(0.3, os.kill, pid, signal.SIGKILL)
        with self.assertRaisesRegex(SpeechCrashed, "died"):
            await self.pool.run(Hang(), Priority.CALL)
        self.pool._seconds = 3.0
        with self.assertRaisesRegex(SpeechCrashed, "too long"):
            await self.pool.run(Hang(), Priority.CALL)
        self.pool._seconds = 60.0
        _, other = await self.pool.run(Tell("who"), Priority.CALL)
        self.assertNotEqual(pid, other)


class Service(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        self.pool = SpeechPool(1)
        self.app = create_app(self.pool, "token")
        lifespan = self.app.router.lifespan_context(self.app)
        await lifespan.__aenter__()
        self.addAsyncCleanup(lifespan.__aexit__, None, None, None)
        self.transport = httpx.ASGITransport(self.app)

    def remote(self, token="token"):
        remote = RemoteSpeech("http://speech.test", token)
        remote._client = httpx.AsyncClient(
            transport=self.transport,
            base_url="http://speech.test",
            headers={"Authorization": f"Bearer {token}"},
        )
        return remote

    async def test_ear_and_voice_over_http(self):
        remote = self.remote()
        parts = [
            part async for part in remote.speak("Good morning. The boat is late.", "tern", seed=1)
        ]
        self.assertEqual([part.text for part in parts], ["good morning", "the boat is late"])
        heard = await remote.transcribe(
            parts[1].clip, Expected(("The boat is late.",)), language="en", long=False
        )
        self.assertEqual((heard.written, heard.source), ("The boat is late.", "expected"))

    async def test_what_is_expected_is_sent_whole_once_and_again_to_who_does_not_know_it(self):
        sent = []

        class Noting(httpx.ASGITransport):
            async def handle_async_request(self, request):
                answer = await super().handle_async_request(request)
                sent.append((answer.status_code, len(request.content)))
                return answer

        clip = speech("The boat is late.")
        words = [f"word{number}" for number in range(4_000)]
        arcs = tuple((0, 1, word) for word in ("late", *words))
        expected = Expected(("The boat is late.",), network=WordNetwork(arcs, frozenset([1])))
        remote = self.remote()
        remote._client._transport = Noting(self.app)
        for _ in range(2):
            await remote.transcribe(clip, expected, language="en", long=False)
        statuses, sizes = zip(*sent, strict=True)
        self.assertEqual(statuses, (409, 200, 200))
        self.assertGreater(sizes[1], sizes[2] + 40_000)
        self.assertEqual(sizes[0], sizes[2])
        # A worker that took the place of another knows nothing; who asks does not notice.
        _, pid = await self.pool.run(Tell("who"), Priority.CALL)
        os.kill(pid, signal.SIGKILL)
        with self.assertRaises(SpeechCrashed):
            await self.pool.run(Tell("who"), Priority.CALL)
        phrases = Expected(("The boat is late.",))
        for _ in range(2):
            heard = await remote.transcribe(clip, phrases, language="en", long=False)
            self.assertEqual(heard.source, "expected")
        self.assertEqual([status for status, _ in sent[3:]], [409, 200, 200])
        heard = await remote.transcribe(clip, expected, language="en", long=False)
        self.assertEqual(sent[-1][0], 200)

    async def test_long_sound_is_read_in_units_with_times_that_go_on(self):
        sentence = join([speech("The boats are running today."), silence(0.5, 16_000)])
        clip = join([sentence] * 15)
        heard = await self.remote().transcribe(clip, Expected(), language="en", long=True)
        times = [word.start for word in heard.words]
        self.assertEqual(times, sorted(times))
        self.assertGreater(times[-1], 30)

    async def test_long_sound_is_heard_and_a_call_is_answered_meanwhile(self):
        """Nothing of a long file's length is sent, decoded or held at once in the speech process."""
        sentence = speech("The boats are running today.")
        hush = silence(29.0, 16_000)
        long_sound = Clip(np.tile(np.concatenate([sentence.samples, hush.samples]), 30), 16_000)
        self.assertGreater(long_sound.seconds, 900)
        remote = self.remote()
        sizes = []
        unit = remote._unit

        async def counted(ask, expected, clip):
            sizes.append(clip.seconds)
            return await unit(ask, expected, clip)

        remote._unit = counted
        whole = asyncio.create_task(
            remote.transcribe(long_sound, Expected(), language="en", long=True)
        )
        while len(sizes) < 3 and not whole.done():  # noqa: ASYNC110  # it is told no other way
            await asyncio.sleep(0.01)
        call = self.remote()
        heard = await call.transcribe(sentence, Expected(), language="en", long=False)
        self.assertIn("boats", heard.spoken)
        self.assertFalse(whole.done(), "a call does not wait for the long sound")
        heard = await whole
        self.assertLessEqual(max(sizes), 31)
        self.assertEqual(sum(word.spoken == "boats" for word in heard.words), 30)

    async def test_frames_that_are_none_are_refused(self):
        clip = Clip(np.linspace(-1, 1, 50, dtype=np.float32), 8_000)
        whole = frame({"a": [1, "ü"]}, clip)
        for size in (1, 7, 1_000):
            frames = Frames()
            found = [
                each for at in range(0, 2 * len(whole), size)
                for each in frames.feed((whole + whole)[at : at + size])
            ]  # fmt: skip
            self.assertEqual([facts for facts, _ in found], [{"a": [1, "ü"]}] * 2)
            np.testing.assert_allclose(found[1][1].samples, clip.samples, atol=1e-4)
        for wrong in (b"\xff" * 40, whole[:-1], whole + b"x", whole.replace(b"8000", b'"no"')):
            with self.assertRaises(NotAFrame):
                one_frame(wrong)
        remote = self.remote()
        answer = await remote._client.post("/hear", content=b"\xff" * 40)
        self.assertEqual(answer.status_code, 422)

    async def test_errors_come_across(self):
        remote = self.remote()
        with self.assertRaisesRegex(SpeechFailed, "nobody"):
            [part async for part in remote.speak("Hello.", "nobody", seed=1)]
        with self.assertRaisesRegex(SpeechFailed, "'fr'"):
            await remote.transcribe(speech("Hello."), Expected(), language="fr", long=False)
        with self.assertRaisesRegex(SpeechFailed, "401"):
            await self.remote("wrong").transcribe(
                speech("Hello."), Expected(), language="en", long=False
            )
        with self.assertRaises(SpeechUnreachable):
            [
                part
                async for part in RemoteSpeech("http://127.0.0.1:1", "t").speak("x", "tern", seed=1)
            ]


class Decoding(unittest.IsolatedAsyncioTestCase):
    async def test_sound_comes_back_at_16_khz(self):
        decoded = await GuardedDecoder().decode(encode(noise(1.5, 48_000), "ogg"))
        self.assertEqual(
            (decoded.clip.rate, decoded.codec, len(decoded.clip)), (16_000, "opus", 24_000)
        )

    async def test_what_is_not_sound_is_a_typed_error(self):
        decoder = GuardedDecoder()
        for data, error in (
            (b"", EmptySound),
            (b"\x89PNG" * 90, UnknownSound),
            (b"OggS" * 90, BrokenSound),
        ):
            with self.assertRaises(error):
                await decoder.decode(data)

    async def test_bombs_are_bounded(self):
        hour = encode(Clip(np.zeros(16_000 * 600, np.float32), 16_000), "flac")
        self.assertLess(len(hour), 200_000, "a small file that swells")
        with self.assertRaises(SoundTooLong):
            await GuardedDecoder(Limits(seconds=60.0)).decode(hour)
        with self.assertRaisesRegex(BrokenSound, "memory"):
            await GuardedDecoder(memory=400 * 2**20).decode(
                encode(Clip(np.zeros(16_000 * 3_000, np.float32), 16_000), "flac")
            )
        with self.assertRaises(SoundTooLong):
            await GuardedDecoder(Limits(size=1_000)).decode(b"x" * 1_001)
