"""Connector files drafted from examples: the stand-ins, and services of other shapes."""

import base64
import hmac
import json
import textwrap

import yaml

from fond_echo.documents.connector import read_connector
from fond_echo.documents.drafting.draft import engine_draft, network_draft
from fond_echo.documents.drafting.example import read_curl
from fond_echo.documents.drafting.messages import Caught
from fond_echo.documents.drafting.openapi import read_openapi
from fond_echo.documents.engine import read_engine
from fond_echo.documents.errors import NotAnExample
from tests.support.engines import WORD, gannet_on_loopback
from tests.web.test_commands import Commands

LOOP = """
servers: [{url: "https://a.test"}]
paths: {/x: {get: {requestBody: {content: {application/json: {schema: {$ref: "#/c"}}}}}}}
c: {properties: {one: {$ref: "#/c"}, two: {$ref: "#/c"}, three: {$ref: "#/c"}}}
"""
TALKS = {
    "gannet-voice": ("speak", """curl -X POST {base}/utterance -H "Authorization: Bearer $KEY" \\
        -H 'Content-Type: application/json' --output boat.wav \\
        -d '{{"words": "The boat is late.", "timbre": "bright"}}'"""),
    "gannet-ear": ("transcribe", """curl {base}/hearing -H "Authorization: Bearer $KEY" \\
        -F take=@note.wav -F tongue=en"""),
    "gannet-mind": ("answer", """curl {base}/thoughts -H "Authorization: Bearer $KEY" --json \\
        '{{"words": "When are you open?", "brief": "You are a desk.", "earlier": [], "facts": {{}},
          "passages": [], "functions": [], "results": [], "most": 600}}'"""),
}  # fmt: skip


class OfEngines(Commands):
    """Real requests to the provider, on a socket."""

    async def connected(self, gannet, name, *more):
        does, curl = TALKS[name]
        example = self.file(f"{name}.txt", curl.format(base=gannet.base))
        token = self.file("token", WORD + "\n")
        place = gannet.base.removeprefix("http://")
        self.service.installation.connected = gannet.connected
        return await self.types(
            "connect", does, name, example, "--token", token, "--private", place,
            "--write", self.folder / f"{name}.yaml", *more,
        )  # fmt: skip

    async def test_each_is_asked_stored_and_proven(self):
        async with gannet_on_loopback() as gannet:
            code, out, err = await self.connected(gannet, "gannet-voice", "--probe", "--add")
            self.assertEqual(code, 0, err + out)
            self.assertIn("{{ voice }}", out)
            self.assertRegex(out, r"[0-3] of 9 words came back")
            (secret,) = (await self.client.get("/api/secrets")).json()
            place = gannet.base.removeprefix("http://")
            self.assertEqual((secret["name"], secret["hosts"]), ("gannet-voice-key", [place]))
            code, out, err = await self.connected(gannet, "gannet-ear", "--probe", "--add")
            self.assertEqual(code, 0, err + out)
            self.assertRegex(out, r"[0-3] of 9 words came back")
            self.assertNotIn(WORD, (self.folder / "gannet-ear.yaml").read_text())

    async def test_nothing_goes_out_unasked_and_a_wrong_guess_is_corrected(self):
        async with gannet_on_loopback() as gannet:
            code, _, err = await self.connected(gannet, "gannet-mind")
            self.assertEqual(code, 1)
            self.assertIn("it must be known how the service answers", err)
            answer = self.file(
                "answer.json", json.dumps({"thought": {"say": "From nine to five."}})
            )
            given = ("--answer", f"request={answer}", "--map", "json.most={{ characters }}")
            code, out, err = await self.connected(gannet, "gannet-mind", *given)
            self.assertEqual(code, 0, err + out)
            self.assertIn("Nothing was sent or stored", out)
            text = (self.folder / "gannet-mind.yaml").read_text()
            read = read_engine(text, "gannet-mind.yaml")
            self.assertEqual(read.request[0].body_json["most"], "{{ characters }}")
            self.assertEqual(read.request[0].body_json["brief"], "{{ brief }}")
            self.assertEqual((await self.client.get("/api/engines")).json(), [])
            self.assertEqual((await self.client.get("/api/secrets")).json(), [])
            (self.folder / "gannet-mind.yaml").write_text("engine: mine\n")
            code, _, err = await self.connected(gannet, "gannet-mind", *given)
            self.assertIn("was written by somebody", err)

    async def test_over_the_api_with_its_evidence(self):
        given = {"kind": "speak", "name": "gull", "examples": {
            "request": "curl https://gull.test/say -d 'text=Hello+there&speaker=anna&api_key=<KEY>'"
        }}  # fmt: skip
        answer = await self.client.post("/api/connectors/drafts", json=given)
        self.assertEqual(answer.status_code, 200, answer.text)
        found = answer.json()
        self.assertEqual(found["errors"], [])
        places = {each["place"]: each["template"] for each in found["guesses"]}
        self.assertEqual(places, {"form.text": "{{ text }}", "form.speaker": "{{ voice }}",
                                  "form.api_key": "{{ secrets.gull-key }}"})  # fmt: skip
        given["examples"]["request"] = "wget https://gull.test/say"
        answer = await self.client.post("/api/connectors/drafts", json=given)
        self.assert_problem(answer, 422, "example")
        self.assertIn("begins with 'wget'", answer.text)


class OfNetworks(Commands):
    def posted(self, number, said="", **more):
        post = {"id": f"post-{number}", "number": number, "room": "room-isla", "at": 1.5 * number,
                "sender": {"id": "isla", "name": "Isla Quennell", "automated": False}}  # fmt: skip
        return {"posts": [post | ({"words": said} if said else {}) | more]}

    async def test_the_stand_in_network_is_connected_and_a_note_is_answered(self):
        await self.fill()
        sound = {"handle": "sound-7", "as": "note", "length": 2.5}
        authorized = "-H 'Authorization: Bearer <token>'"
        room = "http://skerry.test/rooms/room-isla"
        messages = []
        for number, said, more in (
            (1, "hello", {}),
            (2, "and again", {}),
            (3, "", {"sound": sound}),
        ):
            path = self.file(f"{number}.json", json.dumps(self.posted(number, said, **more)))
            messages += ["--message", path, "--text", said]
        text = self.file(
            "text.txt",
            f"curl {room}/posts {authorized} "
            """--json '{"words": "Hello from the bot", "key": "abc"}'""",
        )
        note = self.file(
            "note.txt",
            f"curl {room}/sounds {authorized} -F sound=@a.ogg"
            " -F length=2.5 -F peaks=1,2,3 -F key=abd",
        )
        fetch = self.file(
            "fetch.txt", f"curl -X POST http://skerry.test/handles/sound-7 {authorized}"
        )
        answer = self.file("fetched.json", '{"href": "http://skerry.test/got/abc"}')
        out = await self.says(
            "connect", "network", "skerry-two", text, "--voice-note", note, "--fetch", fetch,
            "--answer", f"fetch={answer}", *messages, "--write", self.folder / "two.yaml",
            "--token", self.file("token", "bot-token"), "--add", "--assistant", "harbour-desk",
            "--map", "voice-note.multipart.peaks={{ waveform | points(48) | scale(0, 100) }}",
        )  # fmt: skip
        self.assertIn("harbour-desk answers there", out)
        self.assertIn("posts are not verified", out)
        # A message of the network is answered over the drafted file.
        posted = json.dumps(self.posted(9, "How much is a ticket?")).encode()
        local = self.with_key("")
        await local.post("/webhooks/skerry-two", content=posted)
        await self.work()
        turn = (await self.client.get("/api/turns", params={"limit": 1})).json()["items"][0]
        self.assertEqual((turn["channel"], turn["route"], turn["state"]),
                         ("skerry-two", "fares", "answered"))  # fmt: skip
        self.assertEqual(turn["deliveries"][0]["state"], "sent")

    def test_a_polled_network_with_forms_that_posts_flat_messages(self):
        text = read_curl("curl https://reef.test/say -d 'to=41&message=Hello+there&pass=SECRET'")
        poll = read_curl("curl 'https://reef.test/feed?since=0&pass=SECRET'")
        caught = [
            Caught({"next": number, "items": [
                {"ref": f"r{number}", "from": "isla", "thread": 41, "message": words, "self": False}
            ]})
            for number, words in ((5, "hello reef"), (6, "second one"))
        ]  # fmt: skip
        draft = network_draft("reef", {"text": text, "poll": poll}, caught,
                              ["hello reef", "second one"], token="SECRET")  # fmt: skip
        read = read_connector(draft.file, "reef.yaml")
        message = read.receive.message
        self.assertEqual((message.id, message.conversation, message.contact, message.text),
                         ("$.ref", "$.thread", "$.from", "$.message"))  # fmt: skip
        self.assertEqual((read.receive.each, read.receive.ours), ("$.items[*]", "$.self"))
        self.assertEqual(read.receive.poll.query["since"], "{{ cursor }}")
        self.assertEqual(read.receive.poll.cursor, "$.next")
        form = {"to": "{{ conversation }}", "message": "{{ text }}",
                "pass": "{{ secrets.reef-token }}"}  # fmt: skip
        self.assertEqual(read.requests["text"][0].form, form)
        self.assertEqual(draft.secrets, {"reef-token": "reef.test"})

    def test_what_stays_as_it_is_is_shown_and_our_own_messages_can_be_told(self):
        text = read_curl("curl https://reef.test/say -d 'to=41&message=Hello+there&pass=x&mode=3'")
        fetch = read_curl("curl https://reef.test/sounds/12?pass=x")
        spoken = self.posted(3, sound={"handle": "s-3", "as": "note"})
        caught = [Caught(self.posted(1, "hello")), Caught(spoken)]
        given = {"text": text, "fetch": fetch}
        draft = network_draft("reef", given, caught, ["hello", ""])
        self.assertEqual(draft.unchanged, {"text.form.mode": "3"})
        (step,) = read_connector(draft.file, "reef.yaml").fetch
        self.assertEqual(step.get, "{{ base }}/sounds/{{ sound }}")
        at = {"receive.ours": "$.sender[?@ == 'bot']"}
        told = network_draft("reef", given, caught, ["hello", ""], corrections=at)
        self.assertEqual(read_connector(told.file, "reef.yaml").receive.ours, at["receive.ours"])
        del caught[0].document["posts"][0]["sender"]["automated"]
        unknown = network_draft("reef", given, caught[:1], ["hello"])
        self.assertIn("or it answers itself", " ".join(unknown.limitations))
        with self.assertRaisesRegex(NotAnExample, "no place of messages"):
            network_draft("reef", given, caught[:1], ["hello"], corrections={"receive.x": "$.y"})

    def test_one_deeply_nested_that_signs_its_posts_and_names_no_room(self):
        key = "quay-signing-word"
        caught = []
        for number, words in ((1, "first words"), (2, "other words")):
            document = {"event": {"message": {"meta": {"uid": f"m-{number}"}, "author": {
                "code": "k7", "nick": "Isla"}, "content": {"kind": "words", "body": words}}}}  # fmt: skip
            body = json.dumps(document).encode()
            code = base64.b64encode(hmac.digest(key.encode(), body, "sha256")).decode()
            caught.append(Caught(document, {"X-Quay-Mark": f"v1={code}", "Host": "here"}, body))
        text = read_curl("curl -X PUT https://quay.test/v3/people/k7/inbox -H 'X-Quay-Key: ABCD'"
                         """ --json '{"parts": [{"kind": "words", "content": "Hello to you"}]}'""")  # fmt: skip
        draft = network_draft("quay", {"text": text}, caught, ["first words", "other words"],
                              token="ABCD", signing_key=key)  # fmt: skip
        read = read_connector(draft.file, "quay.yaml")
        verify = read.receive.webhook.verify
        self.assertEqual((verify.kind, verify.header, verify.prefix, verify.encoding),
                         ("hmac-sha256", "X-Quay-Mark", "v1=", "base64"))  # fmt: skip
        message = read.receive.message
        self.assertEqual(message.id, "$.event.message.meta.uid")
        self.assertEqual(message.contact, "$.event.message.author.code")
        self.assertEqual(message.conversation, message.contact)
        self.assertEqual(message.name, "$.event.message.author.nick")
        self.assertIn("voice notes are not heard", " ".join(draft.limitations))
        (step,) = read.requests["text"]
        self.assertEqual(step.put, "{{ base }}/v3/people/{{ conversation }}/inbox")
        self.assertEqual(step.body_json["parts"][0]["content"], "{{ text }}")

    def test_what_shows_nothing_is_said_in_a_sentence(self):
        text = read_curl("curl https://reef.test/say -d 'to=41&message=Hello+there'")
        one = Caught(self.posted(1, "hello"))
        for caught, said, what in (
            ([one, one], ["hello", "hello"], "show nothing new"),
            ([one], ["good day"], "stands nowhere"),
            ([], [], "give one to 3"),
            ([Caught({"words": "hello"})], ["hello"], "nothing in the messages says who"),
        ):
            with self.subTest(what=what), self.assertRaisesRegex(NotAnExample, what):
                network_draft("reef", {"text": text}, caught, said)
        for curl, what in (
            ("", "no command of curl"), ("curl 'https://a.test", "cannot be read"),
            ("curl", "no address"), ("curl https://a.test -Z 3", "option -Z"),
            ("curl https://a.test --json '{'", "not JSON"),
        ):  # fmt: skip
            with self.subTest(curl=curl), self.assertRaisesRegex(NotAnExample, what):
                read_curl(curl)
        no_place = read_curl("curl https://a.test -d 'n=3'")
        with self.assertRaisesRegex(NotAnExample, "no.* place for the words"):
            engine_draft("a", "speak", no_place)

    def test_an_operation_of_an_openapi_document(self):
        document = """
            openapi: 3.1.0
            servers: [{url: "https://gull.test/v2"}]
            security: [{key: []}]
            paths:
              /voices/{voice}/say:
                post:
                  operationId: speak
                  parameters: [{name: voice, in: path, schema: {type: string, example: anna}}]
                  requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Say"}}}}
            components:
              securitySchemes: {key: {type: apiKey, in: header, name: X-Gull-Key}}
              schemas:
                Say:
                  type: object
                  required: [text, pace]
                  properties:
                    text: {type: string}
                    pace: {type: number, default: 1.0}
                    mood: {type: string}
        """
        text = textwrap.dedent(document)
        for operation in ("speak", "POST /voices/{voice}/say"):
            draft = engine_draft("gull", "speak", read_openapi(text, operation))
            (step,) = read_engine(draft.file, "gull.yaml").request
            self.assertEqual(step.post, "{{ base }}/v2/voices/anna/say")
            self.assertEqual(step.body_json, {"text": "{{ text }}", "pace": 1.0})
            self.assertEqual(step.headers, {"X-Gull-Key": "{{ secrets.gull-key }}"})
        for wrong, operation, what in (
            (text, "sing", "no operation 'sing'"), ("a: 1", "speak", "has no paths"),
            (text.replace("https://gull.test", ""), "speak", "no server"),
            ("a: [1", "speak", "cannot be read"),
            ("paths: {/x: {get: {parameters: 3}}}", "GET /x", "not as OpenAPI|no server"),
            (LOOP, "GET /x", "more than 2,000 fields"),
        ):  # fmt: skip
            with self.subTest(what=what), self.assertRaisesRegex(NotAnExample, what):
                read_openapi(wrong, operation)

    def test_sound_behind_an_address_or_as_base64(self):
        example = read_curl('curl https://gull.test/say --json \'{"text": "Hello there"}\'')
        linked = engine_draft(
            "gull", "speak", example, answer={"job": {"url": "https://gull.test/a"}}
        )
        steps = yaml.safe_load(linked.file)["request"]
        self.assertEqual(
            (steps[0]["take"], steps[1]["get"]), ({"place": "$.job.url"}, "{{ place }}")
        )
        data = base64.b64encode(b"OggS" + bytes(60)).decode()
        coded = engine_draft("gull", "speak", example, answer={"sound": {"data": data}})
        self.assertEqual(yaml.safe_load(coded.file)["request"][0]["base64"], "$.sound.data")
        for draft in (linked, coded):
            read_engine(draft.file, "gull.yaml")
