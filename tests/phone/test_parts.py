"""Parts of a phone channel by themselves: what is said, kept and read ahead, the clock, the ports, the
door, and what is said first in a call of ours."""

import asyncio
import base64
import struct
import unittest
from itertools import pairwise
from types import SimpleNamespace

import httpx
import numpy as np

from fond_echo.contract.call import Opening
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import decode, encode
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.documents.phone import RegistrarSpec
from fond_echo.engines.cached import CachedSynthesizer, SpokenCache
from fond_echo.phone import placing, prompts
from fond_echo.phone.describing import Descriptions
from fond_echo.phone.errors import NoOpening, NoPorts
from fond_echo.phone.hearing import SpeculativeRecognizer
from fond_echo.phone.media import open_media
from fond_echo.phone.opening import ask, prepared, sound_of
from fond_echo.phone.prompts import Prompts
from fond_echo.phone.service import ServiceBackend
from fond_echo.phone.ticking import FEW, Ticker
from fond_echo.store.local import free_port
from tests.sounds import tone


async def until(there):
    while not there():  # noqa: ASYNC110  # what is waited for tells nobody
        await asyncio.sleep(0.01)


class Voice:
    """Says everything in two parts of a quarter of a second, and counts how often it is asked."""

    def __init__(self):
        self.requested = []

    async def speak(self, text, voice, *, seed, sounds=(), language="en", **_):
        self.requested.append(text)
        for part in (text[:3], text[3:]):
            yield SpokenSound(tone(0.25), part)


class Callers(unittest.TestCase):
    def test_the_number_that_was_asked_for_through_a_registrar_s_trunk(self):
        spec = RegistrarSpec.model_validate({
            "registrar": "wharf", "uri": "sip:wharf.example", "user": "desk", "password": {"secret": "word"},
            "aor": "sip:desk@wharf.example",
        })  # fmt: skip
        for number, caller in (
            ("", "<sip:desk@wharf.example>"), ("desk", "<sip:desk@wharf.example>"),
            ("+441632960100", "<sip:+441632960100@wharf.example>"),
        ):  # fmt: skip
            self.assertEqual(placing._caller(spec, number), caller)


class Said(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        self.voice = Voice()
        self.prompts = self.new_prompts()

    def new_prompts(self, kept=10**7):
        needs = SimpleNamespace(
            synthesizer=CachedSynthesizer(self.voice, SpokenCache(kept)),
            database=None,
            encoder=None,
        )
        return Prompts(ServiceBackend(needs).prompt)

    async def test_the_same_words_are_rendered_once_in_each_law(self):
        self.assertEqual(self.prompts.ready("Good day.", "tern", "PCMU"), b"")
        first = await self.prompts.spoken("Good day.", "tern", "PCMU")
        self.assertEqual(len(first), 4_000)
        self.assertEqual(await self.prompts.spoken("Good day.", "tern", "PCMU"), first)
        at_once = [self.prompts.spoken("Good night.", "tern", "PCMU") for _ in range(3)]
        one, *others = await asyncio.gather(*at_once)
        self.assertEqual(others, [one, one])
        self.assertEqual(self.prompts._kept.currsize, 8_000)
        self.assertEqual(self.prompts.ready("Good day.", "tern", "PCMU"), first)
        other = await self.prompts.spoken("Good day.", "tern", "PCMA")
        self.assertNotEqual(other, first)
        self.assertEqual(self.voice.requested.count("Good day."), 1)
        await self.prompts.spoken("Good day.", "whimbrel", "PCMU")
        self.assertEqual(self.voice.requested.count("Good day."), 2)

    async def test_what_was_said_long_ago_is_forgotten(self):
        for module in (prompts,):
            self.addCleanup(setattr, module, "MAX_BYTES", module.MAX_BYTES)
            module.MAX_BYTES = 50_000
        self.prompts = self.new_prompts(50_000)
        for number in range(20):
            await self.prompts.spoken(f"Number {number}.", "tern", "PCMU")
        self.assertEqual(self.prompts.ready("Number 0.", "tern", "PCMU"), b"")
        self.assertTrue(self.prompts.ready("Number 19.", "tern", "PCMU"))
        held = sum(map(len, self.prompts._kept.values()))
        self.assertEqual(held, self.prompts._kept.currsize)
        self.assertLessEqual(held, 50_000)
        await self.prompts.spoken("Number 0.", "tern", "PCMU")
        self.assertEqual(self.voice.requested.count("Number 0."), 2)

    async def test_long_words_are_not_kept(self):
        words = "The boat is late. " * 80
        await self.prompts.spoken(words, "tern", "PCMU")
        self.assertEqual(self.prompts.ready(words, "tern", "PCMU"), b"")


class Ahead(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        self.requested = 0
        self.answer = Heard(spoken="yes", written="Yes.", confidence=0.9, source="expected")
        self.recognizer = SpeculativeRecognizer(self)
        self.samples = np.zeros(8_000, np.int16)
        self.expected = Expected(("yes", "no"))

    async def transcribe(self, clip, expected, *, language, long):
        self.requested += 1
        await asyncio.sleep(0)
        if isinstance(self.answer, Exception):
            raise self.answer
        return self.answer

    async def hear(self, expected=None, language="en"):
        clip = Clip(np.zeros(16_000, np.float32), 16_000)
        return await self.recognizer.transcribe(
            clip, expected or self.expected, language=language, long=False
        )

    async def test_a_guess_of_the_same_pause_is_used(self):
        early = self.recognizer.guess(self.samples, self.expected, "en", pause=3)
        again = self.recognizer.guess(self.samples, self.expected, "en", pause=3)
        self.assertIs(again, early)
        self.recognizer.pause = 3
        self.assertEqual((await self.hear()).written, "Yes.")
        self.assertEqual((self.requested, self.recognizer.used), (1, 1))
        await self.hear()
        self.assertEqual(self.requested, 2)

    async def test_one_of_something_else_is_not(self):
        for pause, expected, language in (
            (4, self.expected, "en"), (3, Expected(("stop",)), "en"), (3, self.expected, "nl"),
        ):  # fmt: skip
            self.recognizer.guess(self.samples, self.expected, "en", pause=3)
            self.recognizer.pause = pause
            await self.hear(expected, language)
        self.assertEqual(self.recognizer.used, 0)

    async def test_a_guess_that_fails_or_finds_nothing_is_asked_again(self):
        self.recognizer.pause = 1
        self.answer = FondEchoError("the recognizer is gone")
        self.recognizer.guess(self.samples, self.expected, "en", pause=1)
        await asyncio.sleep(0.05)
        self.answer = Heard(spoken="", written="", confidence=0, source="nothing")
        self.assertEqual((await self.hear()).source, "nothing")
        self.recognizer.guess(self.samples, self.expected, "en", pause=1)
        await self.hear()
        self.assertEqual((self.requested, self.recognizer.used), (4, 0))

    async def test_what_was_guessed_is_kept_as_it_was_read(self):
        self.samples = (3_000 * np.sin(np.arange(8_000) / 5.0)).astype(np.int16)
        self.recognizer.guess(self.samples, self.expected, "en", pause=2)
        self.assertIsNone(await self.recognizer.shaped(), "it is of another pause")
        self.recognizer.pause = 2
        kept = await self.recognizer.shaped()
        self.assertEqual((kept.clip.rate, len(kept.clip)), (16_000, 16_000))
        decoded = decode(kept.data).clip
        self.assertEqual(len(decoded), 8_000)
        np.testing.assert_allclose(decoded.samples, self.samples / 32_768, atol=1e-4)
        await self.hear()
        self.assertIsNone(await self.recognizer.shaped(), "it is used once")

    async def test_nothing_is_kept_of_a_guess_that_failed_or_found_nothing(self):
        self.recognizer.pause = 2
        for answer in (
            FondEchoError("the recognizer is gone"),
            Heard(spoken="", written="", confidence=0, source="nothing"),
        ):
            self.answer = answer
            self.recognizer.guess(self.samples, self.expected, "en", pause=2)
            self.assertIsNone(await self.recognizer.shaped())
            await asyncio.gather(self.hear(), return_exceptions=True)


class Clock(unittest.IsolatedAsyncioTestCase):
    async def test_each_has_its_twenty_milliseconds_and_they_are_spread(self):
        ticker, seen = Ticker(), {}
        for name in "abcdefghij":
            ticker.add(name, lambda now, wall, name=name: seen.setdefault(name, []).append(now))
        self.assertEqual({len(slot) for slot in ticker._slots}, {1})
        ticker.start()
        self.addCleanup(ticker.stop)
        await until(lambda: len(seen.get("a", ())) >= 25)
        ticker.remove("a")
        counts = [len(times) for times in seen.values()]
        self.assertLessEqual(max(counts) - min(counts), 1)
        # On a busy machine some ticks come late, but not all, and there are no more of them.
        apart = [after - before for before, after in pairwise(seen["b"])]
        self.assertLess(min(abs(each - 0.02) for each in apart), 0.004)
        self.assertGreater(sum(apart) / len(apart), 0.016)
        reported = len(seen["a"])
        await asyncio.sleep(0.1)
        self.assertEqual(len(seen["a"]), reported)

    async def test_few_calls_are_never_too_many(self):
        ticker = Ticker()
        ticker._late.extend([0.5] * 500)
        for number in range(FEW - 1):
            ticker.add(str(number), lambda now, wall: None)
        self.assertFalse(ticker.full)
        ticker.add("one more", lambda now, wall: None)
        self.assertTrue(ticker.full)
        ticker._late.extend([0.001] * 500)
        self.assertFalse(ticker.full)

    async def test_a_call_that_breaks_is_ended_and_the_others_go_on(self):
        broken, beats = [], []
        ticker = Ticker(broken.append)

        def breaks(now, wall):
            raise struct.error("ubyte format requires 0 <= number <= 255")

        for number in range(12):
            ticker.add(f"good-{number}", lambda now, wall, number=number: beats.append(number))
        ticker.add("bad", breaks)
        ticker.start()
        self.addCleanup(ticker.stop)
        await until(lambda: len(beats) > 60)
        self.assertEqual((broken, ticker.failed), (["bad"], 1))
        self.assertEqual(set(beats[-30:]), set(range(12)))

    async def test_descriptions_of_a_call_are_of_one_session(self):
        connectors, call = Descriptions("192.0.2.1"), SimpleNamespace(id="c1")
        first = connectors.first(4_000)
        connectors.keep(call, first)
        again = connectors.following(call, 4_000)
        third = connectors.following(call, 4_000)
        self.assertEqual({first.session, again.session, third.session}, {first.session})
        self.assertEqual((again.version, third.version), (first.version + 1, first.version + 2))

    async def test_it_sleeps_where_nobody_is_and_wakes(self):
        ticker, beats = Ticker(), []
        ticker.start()
        self.addCleanup(ticker.stop)
        await asyncio.sleep(0.05)
        self.assertEqual((len(ticker._late), ticker.load), (0, 0.0))
        ticker.add("a", lambda now, wall: beats.append(now))
        await until(lambda: len(beats) >= 3)
        ticker.remove("a")
        self.assertFalse(ticker._somebody.is_set())


class Ports(unittest.IsolatedAsyncioTestCase):
    async def test_two_side_by_side_and_none_twice(self):
        low = free_port() & ~1
        heard = []
        opened = []
        for _ in range(3):
            sockets = await open_media(
                "127.0.0.1", (low, low + 60), lambda data, place: heard.append(data),
                lambda data, place: heard.append(b"report " + data), first=0,
            )  # fmt: skip
            self.addCleanup(sockets.close)
            opened.append(sockets)
        self.assertEqual(len({each.port for each in opened}), 3)
        self.assertTrue(all(each.port % 2 == 0 for each in opened))
        one, other, _ = opened
        one.send(b"sound", ("127.0.0.1", other.port))
        one.send_report(b"figures", ("127.0.0.1", other.port))
        await until(lambda: len(heard) == 2)
        self.assertEqual(sorted(heard), [b"report figures", b"sound"])
        one.close()
        one.send(b"sound", ("127.0.0.1", other.port))

    async def test_all_taken(self):
        low = free_port() & ~1
        taken = await open_media("127.0.0.1", (low, low + 1), print, print, first=0)
        self.addCleanup(taken.close)
        with self.assertRaisesRegex(NoPorts, f"from {low} to {low + 1} are taken"):
            await open_media("127.0.0.1", (low, low + 1), print, print, first=0)


class First(unittest.IsolatedAsyncioTestCase):
    """What is said first in a call of ours."""

    def client(self, answer):
        client = httpx.AsyncClient(transport=httpx.MockTransport(answer))
        self.addAsyncCleanup(client.aclose)
        return client

    async def given(self, content, kind, status=200):
        answer = httpx.Response(status, content=content, headers={"content-type": kind})
        return await ask(self.client(lambda request: answer), "http://words.test/opening")

    async def test_words_sound_or_a_reply(self):
        self.assertEqual(
            await self.given(b" Your boat is off. ", "text/plain"), "Your boat is off."
        )
        reply = b'{"text": "Off at **10**.", "spoken": "It is off at ten."}'
        self.assertEqual(await self.given(reply, "application/json"), "It is off at ten.")
        self.assertEqual(await self.given(b'{"text": "It is off."}', "text/plain"), "It is off.")
        clip = await self.given(encode(tone(0.5), "wav"), "audio/wav; rate=16000")
        self.assertAlmostEqual(clip.seconds, 0.5, places=2)

    async def test_whatever_else_is_told(self):
        for content, kind, status, reported in (
            (b"", "text/plain", 200, "nothing to say"),
            (b"gone", "text/plain", 404, "answered 404"),
            (b'{"words": 7}', "application/json", 200, "no reply"),
            (b"{", "application/json", 200, "no reply"),
            (b"RIFFnoise", "audio/wav", 200, "no sound"),
            (b"x" * 10_000_001, "text/plain", 200, "10,000,001 bytes"),
        ):
            with self.assertRaisesRegex(NoOpening, reported):
                await self.given(content, kind, status)

    async def test_who_does_not_answer(self):
        def away(request):
            raise httpx.ConnectError("nobody is there", request=request)

        with self.assertRaisesRegex(NoOpening, "did not answer: nobody is there"):
            await ask(self.client(away), "http://words.test/opening")

    async def test_the_sound_of_an_order(self):
        text = base64.b64encode(encode(tone(0.5), "wav")).decode()
        self.assertAlmostEqual((await sound_of(text)).seconds, 0.5, places=2)
        for wrong, reported in (("§", "not base64"), (base64.b64encode(b"no").decode(), "sound: ")):
            with self.assertRaisesRegex(NoOpening, reported) as caught:
                await sound_of(wrong)
            self.assertEqual(caught.exception.where, "opening.sound")

    async def test_words_and_an_assistant_s_greeting_need_nothing(self):
        nobody = self.client(lambda request: self.fail("nobody is to be asked"))
        self.assertEqual(await prepared(Opening(text="Hello."), nobody, None), "Hello.")
        self.assertEqual(await prepared(Opening(assistant="desk"), nobody, None), "")


if __name__ == "__main__":
    unittest.main()
