"""Descriptions in full: both stand-in networks, and what they do not need."""

import base64
import time
import unittest
import unittest.mock

import httpx
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from fond_echo.channels.chat import ChatChannel
from fond_echo.connectors.errors import ConnectorError, Forged, NoAnswer, Refused, WrongAnswer
from fond_echo.connectors.machine import RequestMachine
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.connectors.throttle import Throttle
from fond_echo.connectors.verify import check_webhook
from fond_echo.core.audio.containers import encode
from fond_echo.documents.connector import Verification, read_connector
from fond_echo.documents.drafting.example import json_path, leaves_of
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.steps import Step
from fond_echo.standins.chat.app import create_app as create_skerry
from fond_echo.standins.feed.app import create_app as create_spindrift
from fond_echo.turns.ports import Outgoing
from tests.sounds import speech
from tests.support.world import demo_file


def note():
    return encode(speech("How much is a ticket?"), "ogg")


def channel_on(app, file, secrets):
    client = httpx.AsyncClient(transport=httpx.ASGITransport(app))
    vault = Vault(
        {name: Secret(name, value, frozenset(("net.test",))) for name, value in secrets.items()}
    )
    connector = read_connector(demo_file(file), file)
    return ChatChannel(connector, {"base": "http://net.test"}, {"account": "bot-7"}, client, vault)


def outgoing(kind, **fields):
    return Outgoing(kind, fields.pop("room"), "isla", fields.pop("key", "k"), **fields)


class Spindrift(unittest.IsolatedAsyncioTestCase):
    """Polled, one step, base64 sound, no buttons, no edits."""

    def setUp(self):
        self.app = create_spindrift("word")
        self.channel = channel_on(self.app, "spindrift.yaml", {"spindrift-pass": "word"})
        self.person = httpx.AsyncClient(
            transport=httpx.ASGITransport(self.app), base_url="http://net.test"
        )

    async def test_messages_are_asked_for_and_nothing_comes_twice(self):
        await self.person.post("/people/isla", json={"body": "Next boat to Pell"})
        await self.person.post("/people/piet", json={"content": base64.b64encode(note()).decode()})
        found, cursor = await self.channel.poll("")
        (first, _), (second, _) = found
        self.assertEqual(
            (first.text, first.conversation, first.name),
            ("Next boat to Pell", "thread-isla", "Isla"),
        )
        self.assertEqual(second.arrived_as, "voice-note")
        self.assertEqual((await self.channel.poll(cursor))[0], [])
        got = await self.channel.fetch(second.sound.handle, "thread-piet", "piet")
        self.assertEqual(got.data, note())

    async def test_what_is_sent_comes_back_as_ours_and_once_only(self):
        for _ in range(2):
            await self.channel.send(outgoing("text", room="thread-isla", text="Noon."))
            sent = outgoing(
                "voice",
                room="thread-isla",
                key="v",
                data=note(),
                media_type="audio/ogg",
                seconds=1.5,
            )
            await self.channel.send(sent)
        items = self.app.state.feed.items
        self.assertEqual([(item.body, item.how) for item in items], [("Noon.", ""), ("", "spoken")])
        self.assertEqual((await self.channel.poll(""))[0], [])

    async def test_what_it_cannot_do_is_known(self):
        self.assertEqual(self.channel.abilities.kinds, {"text", "voice"})
        self.assertEqual(
            (self.channel.abilities.voice_bytes, self.channel.abilities.voice_seconds),
            (2_000_000, 300),
        )
        await self.channel.indicate("thread-isla", "isla", "typing")
        with self.assertRaisesRegex(ConnectorError, "cannot send edit"):
            await self.channel.send(outgoing("edit", room="thread-isla", id="1"))

    async def test_a_wrong_word(self):
        channel = channel_on(self.app, "spindrift.yaml", {"spindrift-pass": "guess"})
        with self.assertRaisesRegex(Refused, "403"):
            await channel.poll("")


class Skerry(unittest.IsolatedAsyncioTestCase):
    def setUp(self):
        self.app = create_skerry("token", "mark")
        self.net = self.app.state.network
        self.channel = channel_on(
            self.app, "skerry.yaml", {"skerry-token": "token", "skerry-mark": "mark"}
        )

    async def test_every_kind_of_thing_goes_out(self):
        room = "room-isla"
        choices = (("Pell", "to pell"), ("Ossel", "to ossel"))
        sent = await self.channel.send(
            outgoing("choices", room=room, key="1", text="Where to?", choices=choices)
        )
        self.assertEqual(self.net.posts_in(room)[-1].buttons, choices)
        await self.channel.send(
            outgoing("edit", room=room, id=sent.external_id, text="Where would you like to go?")
        )
        self.assertEqual(self.net.posts_in(room)[-1].words, "Where would you like to go?")
        for kind in ("file", "picture"):
            await self.channel.send(
                outgoing(
                    kind, room=room, key=kind, data=b"x" * 9, media_type="text/plain", name="a.txt"
                )
            )
            self.assertEqual(
                (self.net.posts_in(room)[-1].kind, self.net.posts_in(room)[-1].file),
                (kind, ("a.txt", 9)),
            )
        await self.channel.send(outgoing("delete", room=room, id=sent.external_id))
        self.assertNotIn(sent.external_id, [post.id for post in self.net.posts_in(room)])
        await self.channel.mark_read(room, "isla", "post-1")
        self.assertEqual(self.net.seen[room], "post-1")

    async def test_the_conference_that_somebody_talks_in_comes_with_what_they_write(self):
        transport = httpx.ASGITransport(self.app)
        async with httpx.AsyncClient(transport=transport, base_url="http://skerry.test") as isla:
            found = []
            for number in ("", "quay"):
                await isla.post("/people/isla/conference", json={"number": number})
                said = await isla.post("/people/isla/say", json={"words": "hello"})
                ((message, _),) = self.channel.messages({"posts": [said.json()]})
                found.append(message.conference)
        self.assertEqual(found, ["", "quay"])

    async def test_an_attachment_is_fetched_from_its_address(self):
        def answer(request):
            if request.url.host == "tern.test":
                return httpx.Response(200, content=b"map", headers={"content-type": "image/png"})
            return httpx.Response(200, json={"id": "p"})

        client = httpx.AsyncClient(transport=httpx.MockTransport(answer))
        vault = Vault({"skerry-token": Secret("skerry-token", "hush", frozenset(("net.test",)))})
        channel = ChatChannel(
            read_connector(demo_file("skerry.yaml"), "s"),
            {"base": "http://net.test"},
            {},
            client,
            vault,
        )
        sent = await channel.send(outgoing("picture", room="r", url="http://tern.test/map.png"))
        self.assertIn("3 bytes, image/png", str(sent.exchanges))

    async def test_markup_is_what_the_network_reads(self):
        sent = []

        def answer(request):
            sent.append(request.read().decode())
            return httpx.Response(200, json={"id": "p"})

        client = httpx.AsyncClient(transport=httpx.MockTransport(answer))
        vault = Vault({"skerry-token": Secret("skerry-token", "hush", frozenset(("net.test",)))})
        file = demo_file("skerry.yaml")
        limits = "text: {characters: 2500}"
        self.assertIn(limits, file)
        for markup, words in (("", "At ten & noon"), ("markdown", "At **ten** & noon"),
                              ("html", "At <b>ten</b> &amp; noon")):  # fmt: skip
            setting = f", markup: {markup}" if markup else ""
            given = file.replace(limits, limits.replace("2500", "2500" + setting))
            values = {"base": "http://net.test"}
            channel = ChatChannel(read_connector(given, "s"), values, {}, client, vault)
            await channel.send(outgoing("text", room="r", text="At **ten** & noon"))
            self.assertIn(words, sent[-1])

    async def test_presses_joins_and_everything_else(self):
        isla = self.net.person("isla")
        await self.channel.send(
            outgoing("choices", room=isla.room, text="?", choices=(("A", "a"),))
        )
        posts = [self.net.press(isla, isla.room, "a"), self.net.join(isla, isla.room),
                 self.net.show_file(isla, isla.room, "a.png", 3, "picture")]  # fmt: skip
        found = self.channel.messages({"posts": [post.reported() for post in posts]})
        self.assertEqual(
            [message.arrived_as for message, _ in found], ["choice", "joined", "other"]
        )
        self.assertEqual(found[0][0].choice, "a")


class Steps(unittest.IsolatedAsyncioTestCase):
    def machine(self, answer, **more):
        client = httpx.AsyncClient(transport=httpx.MockTransport(answer))
        vault = Vault({"client": Secret("client", "s3", frozenset(("net.test",)))})
        return RequestMachine(client, vault, {"base": "http://net.test"}, **more)

    async def test_until_the_work_there_is_done(self):
        states = ["waiting", "waiting", "done"]

        def answer(request):
            return httpx.Response(200, json={"state": states.pop(0), "text": "heard"})

        step = Step.model_validate(
            {
                "get": "{{ base }}/job",
                "until": {
                    "path": "$.state",
                    "is": "done",
                    "fails": "bad",
                    "every": "10ms",
                    "for": "2s",
                },
                "take": {"text": "$.text"},
            }
        )
        outcome = await self.machine(answer).run([step], {})
        self.assertEqual((outcome.facts, len(outcome.exchanges)), ({"text": "heard"}, 3))
        states[:] = ["bad"]
        with self.assertRaisesRegex(WrongAnswer, "the work there failed"):
            await self.machine(answer).run([step], {})
        states[:] = ["waiting"] * 500
        short = step.model_copy(update={"until": step.until.model_copy(update={"for_": 0.05})})
        with self.assertRaisesRegex(NoAnswer, "not 'done' within"):
            await self.machine(answer).run([short], {})

    async def test_retry_only_where_nothing_happened(self):
        left = [503, 429, 200]
        machine = self.machine(lambda request: httpx.Response(left.pop(0), json={}))
        with unittest.mock.patch("asyncio.sleep"):
            outcome = await machine.run(
                [Step.model_validate({"get": "{{ base }}/x", "retry": 3})], {}
            )
            self.assertEqual([each.status for each in outcome.exchanges], [503, 429, 200])
            left[:] = [500, 200]
            with self.assertRaises(Refused):
                await machine.run([Step.model_validate({"get": "{{ base }}/x", "retry": 3})], {})

    async def test_a_token_is_got_once_and_again_when_it_is_not_liked(self):
        requested = []

        def answer(request):
            requested.append(request.url.path)
            if request.url.path == "/token":
                return httpx.Response(
                    200, json={"access_token": f"t{len(requested)}", "expires_in": 60}
                )
            good = request.headers["authorization"] in ("Bearer t1", "Bearer t4")
            return httpx.Response(200 if good else 401, json={})

        from fond_echo.connectors.oauth import TokenSource
        from fond_echo.documents.connector import ClientCredentials

        credentials = ClientCredentials(
            token_url="{{ base }}/token", client_id="me", client_secret={"secret": "client"}
        )
        machine = self.machine(answer)
        machine._tokens = TokenSource(machine._client, credentials, {"base": "http://net.test"})
        step = Step.model_validate(
            {"get": "{{ base }}/x", "headers": {"Authorization": "Bearer {{ token }}"}}
        )
        await machine.run([step], {})
        await machine.run([step], {})
        self.assertEqual(requested, ["/token", "/x", "/x"])
        machine._tokens._token.value = "stale"
        with self.assertRaises(Refused):
            await machine.run([step], {})

    async def test_a_throttle_keeps_to_rate_and_concurrency(self):
        throttle = Throttle(rate=50.0, concurrency=2)
        inside = most = 0

        async def one():
            nonlocal inside, most
            async with throttle.place():
                inside += 1
                most = max(most, inside)
                import asyncio

                await asyncio.sleep(0.001)
                inside -= 1

        import asyncio

        begun = time.monotonic()
        await asyncio.gather(*(one() for _ in range(75)))
        self.assertEqual(most, 2)
        self.assertFalse(throttle.roomy, "what can be left out is, in a burst")
        self.assertTrue(Throttle(rate=50.0, concurrency=2).roomy)
        self.assertGreater(time.monotonic() - begun, 0.3, "50 at once, then 50 a second")


class Verifying(unittest.TestCase):
    def test_ed25519(self):
        key = Ed25519PrivateKey.generate()
        public = key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)
        body = b'{"a": 1}'
        for public_text, signature in ((public.hex(), key.sign(b"7." + body).hex()),
                                       (base64.b64encode(public).decode(), base64.b64encode(key.sign(b"7." + body)).decode())):  # fmt: skip
            how = Verification(
                kind="ed25519",
                header="X-Sig",
                public_key=public_text,
                over="{{ headers['x-at'] }}.{{ body }}",
            )
            headers = {"x-sig": signature, "x-at": "7"}
            check_webhook(how, "", headers, body, 0)
            for wrong in (
                {**headers, "x-at": "8"},
                {**headers, "x-sig": "00"},
                {**headers, "x-sig": "!!"},
            ):
                with self.assertRaises(Forged):
                    check_webhook(how, "", wrong, body, 0)

    def test_a_header_that_holds_the_secret(self):
        how = Verification(kind="header", header="X-Key", key={"secret": "key"})
        check_webhook(how, "hush", {"x-key": "hush"}, b"", 0)
        with self.assertRaises(Forged):
            check_webhook(how, "hush", {"x-key": "hash"}, b"", 0)

    def test_what_each_kind_needs(self):
        for fields in ({"kind": "ed25519"}, {"kind": "header"}, {"kind": "hmac-sha1"}):
            with self.assertRaises(ValueError):
                Verification(header="X", **fields)


class Checking(unittest.TestCase):
    def errors(self, old, new, file="spindrift.yaml"):
        try:
            read_connector(demo_file(file).replace(old, new, 1), file)
        except InvalidFile as error:
            return " ".join(str(fault) for fault in error.errors)
        return ""

    def test_mistakes_of_every_kind(self):
        for old, new, words in (
            ("every: 1s", "every: often", "is not a length of time; write 500ms"),
            ("rate: 20/s", "rate: fast", "is not a rate; write 20/s"),
            ("bytes: 2MB", "bytes: small", "is not a size; write 300kB"),
            ('since: "{{ cursor }}"', 'since: "{{ curser }}"', "nothing fills in {{ curser }}"),
            ("  poll:", "  pol:", "did you mean poll?"),
            ('    cursor: "$.next"\n', "", "the field 'cursor' is missing"),
            ("  poll:", "  webhook: {}\n  poll:", "either by webhook or by poll"),
            ("  text:\n", "  txt:\n", "did you mean text?"),
        ):
            with self.subTest(words=words):
                self.assertIn(words, self.errors(old, new))
        self.assertIn(
            "is not a condition", self.errors("$.kind == 'joined'", "kind is joined", "skerry.yaml")
        )

    def test_paths_of_every_value(self):
        found = [(json_path(p), v) for p, v in leaves_of({"a": [{"b c": 1}], "d": "x"})]
        self.assertEqual(found, [('$.a[0]["b c"]', 1), ("$.d", "x")])
