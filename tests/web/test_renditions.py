"""Text made sound and sound made a voice note, for programs: every way of giving it, links, quotas."""

import asyncio
import base64
import json
import time
import unittest.mock
from urllib.parse import parse_qs, urlsplit

import numpy as np

from fond_echo.core.audio.clip import Clip, join, silence
from fond_echo.core.audio.containers import decode, encode
from fond_echo.core.audio.inspect import inspect
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.core.telephony.media.g711 import decoded as from_law
from fond_echo.speech.material import recognizer
from fond_echo.store.renditions import used_today
from fond_echo.store.retention import retain
from tests.sounds import speech
from tests.support.web import ADMIN, WebTest
from tests.support.world import LocalSpeech

TEXT = "The next boat to Pell leaves at noon."
PATH = "/api/speech/renditions"


def heard(clip, *phrases):
    return recognizer().transcribe(clip, Expected(phrases, only=True)).spoken


class Renditions(WebTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.service.synthesizer = LocalSpeech()

    async def render(self, status=200, key=None, **given):
        client = self.with_key(key) if key else self.client
        answer = await client.post(PATH, json={"text": TEXT, **given})
        self.assertEqual(answer.status_code, status, answer.text[:300])
        return answer

    async def test_streams_are_counted_as_long_as_they_last(self):
        given = {"text": "Good day.", "deliver_as": "bytes"}
        answer = await self.client.post("/api/speech/renditions", json=given)
        self.assertEqual(answer.status_code, 200)
        self.assertEqual(self.service.asking["/renditions"], 0)
        with unittest.mock.patch("fond_echo.web.renditions.AT_ONCE", 0):
            busy = await self.client.post("/api/speech/renditions", json=given)
        self.assertEqual(busy.status_code, 503)
        wrong = await self.client.post("/api/speech/renditions", json={**given, "text": "<speak>"})
        self.assertEqual(wrong.status_code, 422)
        self.assertEqual(self.service.asking["/renditions"], 0)

    async def test_bytes_are_a_proper_voice_note_and_every_format_says_the_words(self):
        note = (await self.render()).content
        report = inspect(note)
        self.assertTrue(report.voice_note, report.findings)
        for format in ("ogg", "wav", "flac", "mp3", "mulaw"):
            answer = await self.render(format=format, voice="curlew")
            data = answer.content
            if format == "mulaw":
                samples = from_law(data, "PCMU").astype(np.float32) / 32_768
                clip = Clip(samples, 8_000)
                self.assertEqual(answer.headers["content-type"], "audio/basic")
            else:
                clip = decode(data).clip
            said = heard(clip, TEXT, "The last boat to Ossel leaves at ten.", "Four pounds.")
            self.assertEqual(said, "the next boat to pell leaves at noon", format)

    async def test_what_nobody_waits_for_is_not_made_to_its_end(self):
        begun, ended = asyncio.Event(), asyncio.Event()

        class Endless:
            async def speak(self, text, voice, **given):
                begun.set()
                try:
                    while True:
                        await asyncio.sleep(0.01)
                        yield SpokenSound(silence(0.01, 16_000), "so")
                finally:
                    ended.set()

        self.service.synthesizer = Endless()
        asked = asyncio.create_task(self.body_then_gone(begun))
        await asyncio.wait_for(ended.wait(), 20)
        await asked
        self.assertEqual(self.service.asking["/renditions"], 0)

    async def body_then_gone(self, begun):
        """A client that goes away as soon as its rendition is begun."""
        body = json.dumps({"text": TEXT, "deliver_as": "base64"}).encode()

        async def receive():
            nonlocal body
            if body:
                message, body = {"type": "http.request", "body": body}, b""
                return message
            await begun.wait()
            return {"type": "http.disconnect"}

        async def send(message):
            pass

        scope = {
            "type": "http", "method": "POST", "path": PATH, "raw_path": PATH.encode(),
            "query_string": b"", "http_version": "1.1", "scheme": "http", "client": ("127.0.0.1", 1),
            "server": ("echo.test", 80), "root_path": "",
            "headers": [(b"authorization", f"Bearer {ADMIN}".encode()),
                        (b"content-type", b"application/json"),
                        (b"content-length", str(len(body)).encode()), (b"host", b"echo.test")],
        }  # fmt: skip
        await self.app(scope, receive, send)

    async def test_a_pronunciation_is_that_of_a_word(self):
        for alphabet, signs in (("ipa", "a" * 390_000), ("x-arpabet", "AA " * 100_000)):
            text = f"<speak><phoneme alphabet='{alphabet}' ph='{signs}'>x</phoneme></speak>"
            answer = await self.render(status=422, text=text)
            self.assertIn("ph has", answer.json()["detail"])

    async def test_words_and_marks_have_their_times(self):
        text = '<speak>Boats <mark name="here"/>sail<break time="1s"/> today <mark name="end"/></speak>'
        found = (await self.render(text=text, deliver_as="base64")).json()
        self.assertEqual([w["word"] for w in found["words"]], ["boats", "sail", "today"])
        _, sail, today = found["words"]
        self.assertGreater(today["start"] - sail["end"], 1.0)
        self.assertEqual([m["name"] for m in found["marks"]], ["here", "end"])
        self.assertAlmostEqual(found["marks"][0]["at"], sail["start"], delta=0.01)
        self.assertLessEqual(today["end"], found["marks"][1]["at"])
        clip = decode(base64.b64decode(found["base64"])).clip
        self.assertAlmostEqual(found["seconds"], clip.seconds, delta=0.02)
        self.assertEqual(len(found["waveform"]), 240)

    async def test_pace_changes_the_length_and_not_the_pitch(self):
        slow, usual, fast = [
            (await self.render(deliver_as="base64", prosody={"rate": rate})).json()["seconds"]
            for rate in (0.5, 1.0, 2.0)
        ]
        self.assertTrue(1.6 < slow / usual < 2.2 and 1.5 < usual / fast < 2.2, (slow, usual, fast))
        quiet = await self.render(format="wav", prosody={"volume": -12})
        loud = await self.render(format="wav")
        levels = [float(np.std(decode(each.content).clip.samples)) for each in (quiet, loud)]
        self.assertAlmostEqual(levels[0] / levels[1], 10 ** (-12 / 20), delta=0.03)

    async def test_a_data_uri_and_the_same_text_again(self):
        first = (await self.render(deliver_as="data-uri")).json()
        again = (await self.render(deliver_as="data-uri")).json()
        self.assertEqual(first, again)
        self.assertTrue(first["data_uri"].startswith("data:audio/ogg;codecs=opus;base64,T2dn"))

    async def test_a_link_plays_without_a_key_until_its_time(self):
        found = (await self.render(deliver_as="link", link_hours=0.5)).json()
        path = found["link"].removeprefix(self.service.settings.address)
        sound = await self.nobody.get(path)
        self.assertEqual(sound.status_code, 200)
        self.assertTrue(inspect(sound.content).voice_note)
        part = await self.nobody.get(path, headers={"Range": "bytes=0-9"})
        self.assertEqual((part.status_code, part.content), (206, sound.content[:10]))
        head, whole = await self.nobody.head(path), await self.nobody.get(path)
        self.assertEqual((head.status_code, head.content), (200, b""))
        self.assertEqual(int(head.headers["content-length"]), len(whole.content))
        other = (await self.render(deliver_as="link", text="Another.")).json()["link"]
        query = parse_qs(urlsplit(path).query)
        clip = urlsplit(path).path.rpartition("/")[2]
        forged = urlsplit(other).path + "?" + urlsplit(path).query
        later = path.replace(f"until={query['until'][0]}", f"until={int(time.time()) + 10**6}")
        for wrong in (
            forged,
            later,
            path[:-1] + ("0" if path[-1] != "0" else "1"),
            f"/sound/{clip}",
        ):
            answer = await self.nobody.get(wrong)
            self.assertIn(answer.status_code, (403, 422), wrong)
        from fond_echo.signed_links import link_to

        past, _ = link_to(self.service.settings, clip, -1)
        answer = await self.nobody.get(past.removeprefix(self.service.settings.address))
        self.assertEqual(
            (answer.status_code, answer.json()["type"].rpartition("/")[2]), (410, "link-expired")
        )

    async def test_what_cannot_be_spoken_is_said(self):
        for given, words in (
            ({"text": "<speak>Boats"}, "not XML"),
            ({"text": "<speak>\n <shout>Boats</shout></speak>"}, "line 2, column 2: <shout>"),
            ({"text": "..."}, "no word to speak"),
            ({"text": "Привет"}, "no word to speak"),
            ({"voice": "nobody"}, "there is no voice 'nobody'"),
            ({"language": "fr"}, "'fr' is not known"),
            ({"assistant": "nobody"}, "no assistant 'nobody'"),
            ({"format": "aiff"}, "format"),
            ({"prosody": {"rate": 9}}, "rate"),
        ):
            answer = await self.client.post(PATH, json={"text": TEXT, **given})
            self.assertIn(answer.status_code, (404, 422), given)
            self.assertIn(words, answer.text)
        text = "<speak><lexicon uri='x.pls'/>Hello <audio src='horn'>there</audio></speak>"
        found = (await self.render(text=text, deliver_as="base64")).json()
        self.assertEqual(
            found["warnings"],
            ["there is no lexicon 'x.pls': words are said as usual",
             "there is no sound 'horn': the words in its place are said"],
        )  # fmt: skip
        found = (await self.render(text="Hello Привет!", deliver_as="base64")).json()
        self.assertEqual(found["warnings"], ["nothing can be said for the letters Привет"])
        self.assertEqual([w["word"] for w in found["words"]], ["hello"])

    async def test_a_key_has_what_it_may_and_no_more(self):
        made = await self.client.post(
            "/api/keys",
            json={
                "name": "small",
                "scopes": ["operate"],
                "characters_a_day": 60,
                "seconds_a_day": 3,
            },
        )
        key = made.json()["key"]
        await self.render(key=key)
        answer = await self.render(429, key=key)
        self.assertIn("60 characters spoken a day", answer.text)
        async with self.database.reading() as session:
            self.assertEqual(await used_today(session, made.json()["id"]), (len(TEXT), 0.0))
        long = encode(join([speech("Hello.", "tern"), silence(4, 16_000)]), "wav")
        answer = await self.client.post(
            "/api/clips/conversions", content=long, headers={"Authorization": f"Bearer {key}"}
        )
        self.assertEqual(answer.status_code, 429)

    async def test_any_sound_becomes_a_voice_note_and_what_was_wrong_is_told(self):
        sound = encode(speech("How much is a ticket?", "tern"), "mp3")
        note = await self.client.post("/api/clips/conversions", content=sound)
        self.assertTrue(inspect(note.content).voice_note)
        found = (
            await self.client.post(
                "/api/clips/conversions?deliver_as=base64&trim=true", content=sound
            )
        ).json()
        self.assertIn("not Opus in Ogg", found["findings"][0]["what"])
        self.assertEqual((found["container"], found["channel_count"]), ("MP3", 1))
        broken = await self.client.post("/api/clips/conversions", content=b"no sound at all")
        self.assertEqual(broken.status_code, 422)

    async def test_sound_is_kept_while_its_link_is_valid(self):
        from sqlalchemy import func, select, text

        from fond_echo.store.records import ClipRecord

        await self.render(deliver_as="link")
        async with self.database.writing() as session:
            await session.execute(text("UPDATE clips SET created_at = now() - interval '9 days'"))
        counts = []
        for past in (False, True):
            if past:
                async with self.database.writing() as session:
                    await session.execute(text("UPDATE renditions SET expires_at = now()"))
            from datetime import UTC, datetime

            await retain(self.database, self.service.blobs, datetime.now(UTC), event_days=30)
            async with self.database.reading() as session:
                counts.append(
                    (await session.execute(select(func.count(ClipRecord.id)))).scalar_one()
                )
        self.assertEqual(counts, [1, 0])
