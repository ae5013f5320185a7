import asyncio
import hmac
import json
import unittest
import unittest.mock
from hashlib import sha256

import httpx

from fond_echo.core.audio.columns import scaled
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.voicenote import encode_voice_note
from fond_echo.core.audio.waveform import heights
from fond_echo.standins.chat.app import Hook, create_app
from fond_echo.standins.chat.network import BOT, PEOPLE, Network
from fond_echo.standins.errors import Refusal
from fond_echo.standins.faults import LATE_SECONDS
from tests.sounds import in_container, speech, tone

ISLA = PEOPLE[0]


class Notes(unittest.TestCase):
    def setUp(self):
        self.now = 1_000.0
        self.network = Network(clock=lambda: self.now)
        self.clip = speech("Good morning.")
        self.note = encode_voice_note(self.clip, 1)
        self.peaks = scaled(heights(self.clip, 48), 0, 100)

    def shown(self, data=None, length=None, peaks=None):
        length = self.clip.seconds if length is None else length
        post = self.network.send_note(
            BOT, ISLA.room, data or self.note, length, peaks or self.peaks
        )
        return post.sound.shown, post.sound.why

    def test_only_a_proper_note_with_true_length_and_peaks_shows_as_one(self):
        self.assertEqual(self.shown(), ("note", ""))
        self.assertEqual(self.shown(peaks=[round(p * 0.8) for p in self.peaks]), ("note", ""))
        for fields, why in (
            ({"length": 9.0}, "not 9.0 s"),
            ({"peaks": [5] * 48}, "peaks are not those"),
            ({"peaks": [1, 2]}, "48 numbers"),
            ({"peaks": [199] * 48}, "0 to 100"),
            ({"data": encode(self.clip, "mp3")}, "not Opus in Ogg"),
            ({"data": encode(self.clip, "wav")}, "not Opus in Ogg"),
            ({"data": in_container(tone(1.0), "ogg", "libopus", layout="stereo")}, "2 channels"),
        ):
            kind, reason = self.shown(**fields)
            self.assertEqual(kind, "file", why)
            self.assertIn(why, reason)

    def test_a_recording_becomes_a_note_and_a_file_stays_what_it_is(self):
        webm = in_container(tone(1.0), "webm", "libopus")
        self.assertEqual(self.network.record(ISLA, ISLA.room, webm).sound.shown, "note")
        self.assertEqual(
            self.network.send_file(ISLA, ISLA.room, webm, "a.webm").sound.shown, "file"
        )
        for call in (self.network.record, lambda *a: self.network.send_file(*a, "x")):
            with self.assertRaises(Refusal):
                call(ISLA, ISLA.room, b"no sound")

    def test_an_address_for_a_sound_expires(self):
        post = self.network.send_file(ISLA, ISLA.room, self.note, "")
        name = self.network.address_for(post.sound.id)
        self.assertEqual(self.network.fetched(name).data, self.note)
        self.now += 31
        with self.assertRaisesRegex(Refusal, "expired"):
            self.network.fetched(name)

    def test_what_is_not_there(self):
        for call in (lambda: self.network.person("nobody"), lambda: self.network.posts_in(self.network.room_of("x")),
                     lambda: self.network.sound("x"), lambda: self.network.say(ISLA, ISLA.room, " ")):  # fmt: skip
            with self.assertRaises(Refusal):
                call()

    def test_the_indicator_goes_by_itself(self):
        self.network.show(ISLA.room, "typing")
        self.assertEqual(self.network.shown(ISLA.room), "typing")
        self.now += 9
        self.assertEqual(self.network.shown(ISLA.room), "")


class OverHttp(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        self.app = create_app("token", "mark")
        transport = httpx.ASGITransport(self.app)
        self.client = httpx.AsyncClient(transport=transport, base_url="http://skerry.test")
        self.bot = httpx.AsyncClient(transport=transport, base_url="http://skerry.test",
                                     headers={"Authorization": "Bearer token"})  # fmt: skip

    async def test_only_the_bot_may_do_what_bots_do(self):
        for method, path in (("GET", "/self"), ("POST", "/handles/x"), ("PUT", "/hooks/bot-7")):
            self.assertEqual((await self.client.request(method, path)).status_code, 401)

    async def test_anybody_may_open_an_account(self):
        account = {"id": "tobin", "name": "Tobin Ferreira"}
        self.assertEqual(
            (await self.client.post("/people", json=account)).json()["room"], "room-tobin"
        )
        self.assertIn("Tobin Ferreira", (await self.client.get("/people")).text)
        said = await self.client.post("/people/tobin/say", json={"words": "hello"})
        self.assertEqual(said.status_code, 200)
        for wrong, status in ((account, 409), ({"id": "A b", "name": "x"}, 400)):
            self.assertEqual((await self.client.post("/people", json=wrong)).status_code, status)

    async def test_sound_is_fetched_in_two_steps(self):
        note = encode_voice_note(tone(1.0), 1)
        post = (await self.client.post("/people/isla/file", content=note)).json()
        href = (await self.bot.post(f"/handles/{post['sound']['handle']}")).json()["href"]
        self.assertEqual((await self.client.get(href)).content, note)

    async def test_a_key_that_comes_again_posts_nothing_more(self):
        body = {"words": "Hello", "key": "k1"}
        first = (await self.bot.post("/rooms/room-isla/posts", json=body)).json()
        second = (await self.bot.post("/rooms/room-isla/posts", json=body)).json()
        self.assertEqual(first, second)
        self.assertEqual(len((await self.client.get("/rooms/room-isla/posts")).json()["posts"]), 1)

    async def test_what_fails_fails_so_often_and_is_told(self):
        async def fault(**given):
            found = await self.client.put("/faults", json=given)
            self.assertEqual(found.status_code, 200)

        for kind, status in (("busy", 429), ("broken", 500), ("garbage", 200), ("wrong-type", 200)):
            await fault(path="/rooms", fault=kind, times=1)
            body = {"words": "Hello", "key": kind}
            found = await self.bot.post("/rooms/room-isla/posts", json=body)
            self.assertEqual(found.status_code, status, kind)
            if kind == "busy":
                self.assertEqual(found.headers["retry-after"], "7")
            found = await self.bot.post("/rooms/room-isla/posts", json=body)
            self.assertIn("id", found.json(), kind)
        self.assertEqual(len((await self.client.get("/rooms/room-isla/posts")).json()["posts"]), 4)

    async def test_a_message_that_comes_twice_or_late(self):
        got, hook, network = [], Hook("mark"), Network()
        hook.address, hook.twice_every = "http://bot.test/in", 0

        def bot(request):
            got.append(json.loads(request.content)["posts"][0]["id"])
            return httpx.Response(202)

        client = httpx.AsyncClient(transport=httpx.MockTransport(bot))
        posts = [network.say(ISLA, ISLA.room, str(k)) for k in range(2)]
        hook.faults.set("messages", "duplicate", 1)
        waits, pause = [], asyncio.sleep

        async def slept(seconds):
            waits.append(seconds)

        with (
            unittest.mock.patch("httpx.AsyncClient", return_value=client),
            unittest.mock.patch("fond_echo.standins.chat.app.asyncio.sleep", slept),
        ):
            task = asyncio.create_task(hook.run())
            hook.tell(posts[0])
            for _ in range(50):
                await pause(0)
                if len(got) == 2:
                    break
            hook.faults.set("messages", "late", 1)
            hook.tell(posts[1])
            for _ in range(50):
                await pause(0)
            task.cancel()
        self.assertEqual(got, [posts[0].id, posts[0].id, posts[1].id])
        self.assertEqual(waits, [LATE_SECONDS])

    async def test_the_bot_is_told_signed_until_it_takes_it_and_sometimes_twice(self):
        got = []
        taken = asyncio.Event()

        def bot(request):
            mac = hmac.new(
                b"mark", request.headers["x-skerry-time"].encode() + b"." + request.content, sha256
            )
            self.assertEqual(request.headers["x-skerry-mark"], mac.hexdigest())
            got.append(json.loads(request.content)["posts"][0]["id"])
            if len(got) == 5:
                taken.set()
            return httpx.Response(503 if len(got) == 1 else 202)

        hook = Hook("mark")
        hook.address = "http://bot.test/in"
        network = Network()
        client = httpx.AsyncClient(transport=httpx.MockTransport(bot))
        posts = [network.say(ISLA, ISLA.room, str(k)) for k in range(3)]
        for post in posts:
            hook.tell(post)
        with unittest.mock.patch("httpx.AsyncClient", return_value=client):
            task = asyncio.create_task(hook.run())
            async with asyncio.timeout(10):
                await taken.wait()
            task.cancel()
        self.assertEqual(got, [posts[0].id, posts[0].id, posts[1].id, posts[2].id, posts[2].id])
