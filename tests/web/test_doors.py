"""The channels that need no network, and what an operator does."""

import base64

from sqlalchemy import func, select, update

from fond_echo.contract.reply import Reply
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.inspect import inspect
from fond_echo.demo.world import files_of
from fond_echo.store.keys import add_key
from fond_echo.store.records import Channel, ClipRecord, Contact, Delivery, Turn
from tests.sounds import speech
from tests.support.web import WebTest
from tests.support.world import demo_file, logic_that_fails

QUESTION = "When is the next boat to Brannick?"


def note(text=QUESTION, voice="curlew"):
    return encode(speech(text, voice), "ogg")


class ChannelTest(WebTest):
    kind = "http"
    settings: dict = {}  # noqa: RUF012

    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        channel = {"kind": self.kind, "assistant": "harbour-desk", "settings": self.settings}
        answer = await self.client.put("/api/channels/desk", json=channel)
        self.assertEqual((answer.status_code, answer.json()["state"]), (200, "open"), answer.text)
        self.channel = answer.json()


class HttpChannel(ChannelTest):
    async def ask(self, client=None, **options):
        client = client or self.client
        return await self.working(client.post("/ask/desk", **options))

    async def test_text_in_text_out(self):
        reported = (await self.ask(json={"text": QUESTION, "contact": "isla"})).json()
        self.assertEqual((reported["state"], reported["route"]), ("answered", "next-sailing"))
        self.assertEqual(
            (reported["answer"], reported["sound"], reported["heard"]),
            (f"About {QUESTION}", None, None),
        )

    async def test_sound_in_heard_answer_and_sound_out_in_every_form(self):
        for how in ("link", "base64", "data-uri"):
            response = await self.ask(content=note(), params={"deliver_as": how, "contact": how})
            reported = response.json()
            self.assertEqual(reported["heard"]["written"], QUESTION)
            self.assertGreater(len(reported["heard"]["words"]), 5)
            sound = reported["sound"]
            if how == "link":
                path = sound["link"].removeprefix("http://127.0.0.1:9999")
                data = (await self.nobody.get(path)).content
            else:
                text = sound["base64"] or sound["data_uri"].removeprefix("data:audio/ogg;base64,")
                data = base64.b64decode(text)
            self.assertTrue(inspect(data).voice_note)
        response = await self.ask(content=note(), params={"deliver_as": "bytes", "contact": "b"})
        self.assertEqual(response.headers["content-type"], "audio/ogg")
        self.assertTrue(inspect(response.content).voice_note)
        response = await self.ask(
            json={"sound": base64.b64encode(note()).decode(), "contact": "j"},
            params={"deliver_as": "none"},
        )
        self.assertEqual(
            (response.json()["heard"]["source"], response.json()["sound"]), ("expected", None)
        )

    async def test_places_come_with_the_answer(self):
        pier = {"latitude": 57.25, "longitude": -2.5, "name": "Pell pier"}
        self.logic.answer = lambda _: Reply(text="From there.", places=[pier])
        reported = (await self.ask(json={"text": QUESTION, "contact": "isla"})).json()
        self.assertEqual((reported["answer"], reported["places"]), ("From there.", [pier]))

    async def test_a_text_may_be_answered_aloud(self):
        reported = (
            await self.ask(json={"text": "What are the fares?", "spoken_reply": True})
        ).json()
        self.assertIn("£4", reported["answer"])
        self.assertGreater(reported["sound"]["seconds"], 2)

    async def test_the_same_key_gets_the_same_turn(self):
        headers = {"Idempotency-Key": "once"}
        first, second = [
            (await self.ask(json={"text": QUESTION}, headers=headers)).json() for _ in range(2)
        ]
        self.assertEqual(first["turn"], second["turn"])
        self.assertEqual(len(self.logic.requested), 1)

    async def test_a_key_is_one_contacts_and_for_one_request(self):
        headers = {"Idempotency-Key": "once"}
        first = (await self.ask(json={"text": QUESTION, "contact": "a"}, headers=headers)).json()
        other = (await self.ask(json={"text": "Fares?", "contact": "b"}, headers=headers)).json()
        self.assertNotEqual(first["turn"], other["turn"])
        self.assertEqual(other["text"], "Fares?", "not the answer of somebody else")
        again = await self.ask(json={"text": "Fares?", "contact": "a"}, headers=headers)
        self.assert_problem(again, 409, "conflict")

    async def test_sound_is_not_kept_of_whoever_is_not_answered(self):
        reported = (await self.ask(content=note(), params={"contact": "isla"})).json()
        await self.ask(content=note(), params={"contact": "isla"}, headers={"Idempotency-Key": "1"})
        await self.ask(content=note(), params={"contact": "isla"}, headers={"Idempotency-Key": "1"})
        async with self.database.writing() as session:
            received = select(ClipRecord.turn_id).where(ClipRecord.origin == "received")
            self.assertEqual(
                len((await session.scalars(received)).all()), 2, "a duplicate has none"
            )
            await session.execute(update(Contact).values(standing="blocked"))
        self.assertEqual(
            (await self.ask(content=note(), params={"contact": "isla"})).status_code, 409
        )
        async with self.database.reading() as session:
            received = select(func.count()).select_from(ClipRecord)
            of_turns = received.where(ClipRecord.turn_id.is_not(None))
            self.assertEqual(await session.scalar(received), await session.scalar(of_turns))
            count = await session.scalar(received.where(ClipRecord.origin == "received"))
        self.assertEqual(count, 2, "nor has a blocked contact")
        self.assertEqual(reported["state"], "answered")

    async def test_lists_and_turns_can_be_read_after_erasing(self):
        reported = (await self.ask(content=note(), params={"contact": "isla"})).json()
        (contact,) = (await self.client.get("/api/channels/desk/contacts")).json()["items"]
        await self.client.delete(f"/api/channels/desk/contacts/{contact['id']}")
        answer = await self.client.get("/api/turns")
        self.assertEqual(answer.status_code, 200, answer.text)
        (turn,) = answer.json()["items"]
        self.assertTrue(turn["erased_at"] and turn["sound_erased_at"])
        self.assertEqual((turn["text"], turn["sound"]), ("", None))
        shown = (await self.client.get(f"/api/turns/{reported['turn']}")).json()
        stages = {each["name"]: each for each in shown["runs"][0]["stages"]}
        self.assertTrue(stages["transcribe"]["erased_at"])
        self.assertGreater(stages["transcribe"]["seconds"], 0)
        (listed,) = (await self.client.get("/api/conversations")).json()["items"]
        self.assertEqual(listed["last_text"], "")

    async def test_a_form_with_a_file_is_a_question(self):
        sound = encode(speech(QUESTION, "tern"), "ogg")
        answer = await self.ask(
            files={"file": ("q.ogg", sound, "audio/ogg")}, data={"contact": "isla"}
        )
        self.assertEqual(
            (answer.status_code, answer.json()["state"]), (200, "answered"), answer.text
        )
        self.assertEqual(answer.json()["heard"]["written"], QUESTION)
        answer = await self.ask(data={"text": QUESTION, "contact": "isla"})
        self.assertEqual(answer.json()["text"], QUESTION)
        for options, what in (
            ({"data": {"txt": "x"}}, "no field 'txt'"),
            ({"files": [("a", ("a", b"x")), ("b", ("b", b"y"))]}, "one sound"),
        ):
            answer = await self.client.post("/ask/desk", **options)
            self.assert_problem(answer, 422, "request")
            self.assertIn(what, answer.text)

    async def test_not_waited_for_long_enough(self):
        response = await self.client.post("/ask/desk", json={"text": QUESTION}, params={"wait": 0})
        self.assertEqual((response.status_code, response.json()["state"]), (202, "received"))

    async def test_refusals(self):
        self.assert_problem(
            await self.nobody.post("/ask/desk", json={"text": "x"}), 401, "not-signed-in"
        )
        async with self.database.writing() as session:
            await add_key(session, "reader", ["read"], "fe-reader")
        self.assert_problem(
            await self.with_key("fe-reader").post("/ask/desk", json={"text": "x"}),
            403,
            "not-allowed",
        )
        self.assert_problem(
            await self.client.post("/ask/none", json={"text": "x"}), 404, "not-found"
        )
        self.assert_problem(
            await self.client.post("/ask/skerry", json={"text": "x"}), 404, "not-found"
        )
        for body, where, remedy in (
            ({"txt": "x"}, "no field 'txt'", "did you mean text?"),
            ({"zzz": "x"}, "no field 'zzz'", "known: "),
        ):
            answer = await self.client.post("/ask/desk", json=body)
            self.assert_problem(answer, 422, "request")
            self.assertIn(where, answer.json()["detail"])
            self.assertIn(remedy, answer.text)
        answer = await self.client.post("/ask/desk?format=ogg&deliver_as=link", json={"text": "x"})
        self.assert_problem(answer, 422, "request")
        self.assertIn("no parameter 'format'", answer.text)
        self.assert_problem(await self.client.post("/ask/desk", json={}), 422, "nothing-asked")
        self.assert_problem(
            await self.client.post("/ask/desk", json={"sound": "***"}), 422, "nothing-asked"
        )
        reported = (
            await self.ask(content=b"\x89PNG" * 50, headers={"Content-Type": "image/png"})
        ).json()
        self.assertEqual(
            (reported["state"], reported["error"]["code"]), ("failed", "sound-unknown")
        )


class PublicPage(ChannelTest):
    kind = "page"
    settings = {"guests": {"turns_a_guest": 3, "guests_an_hour": 2, "seconds_a_note": 5}}  # noqa: RUF012

    def at(self, path):
        return self.channel["address"].removeprefix("http://127.0.0.1:9999") + path

    async def say(self, guest, **options):
        options.setdefault("json", {"text": QUESTION})
        if "content" in options:
            options.pop("json")
        return await self.working(guest.post(self.at("/say"), **options))

    async def test_a_guest_asks_hears_and_finds_it_again(self):
        guest = self.with_key("")
        about = (await guest.get(self.at("/about"))).json()
        self.assertEqual((about["assistant"], about["said"]), ("harbour-desk", []))
        self.assertIn(QUESTION, about["examples"])
        response = await self.say(guest, content=note())
        self.assertIn("HttpOnly", response.headers["set-cookie"])
        reported = response.json()
        self.assertEqual(reported["heard"]["written"], QUESTION)
        sound = await guest.get(reported["sound"]["link"])
        self.assertTrue(inspect(sound.content).voice_note)
        again = (await guest.get(self.at("/about"))).json()["said"]
        self.assertEqual([each["turn"] for each in again], [reported["turn"]])
        stranger = self.with_key("")
        self.assert_problem(await stranger.get(reported["sound"]["link"]), 404, "not-found")
        self.assertEqual((await stranger.get(self.at("/about"))).json()["said"], [])

    async def test_the_greeting_is_filled_in_for_a_stranger(self):
        for greeting, shown in (
            ("Hello {{ contact.name or 'there' }}.", "Hello there."),
            ("{{ memory.island }} again?", ""),
            ("{{ 1 / (turn.number - 1) }}", ""),
        ):
            await self.publish_greeting(greeting)
            about = (await self.with_key("").get(self.at("/about"))).json()
            self.assertEqual(about["greeting"], shown)

    async def publish_greeting(self, greeting):
        files = files_of("harbour-desk")
        was = "greeting: Tern Sound Ferries. Where would you like to sail?"
        changed = files["assistant.yaml"].replace(was, f'greeting: "{greeting}"')
        self.assertIn(greeting, changed)
        path = "/api/assistants/harbour-desk"
        kept = {"files": {**files, "assistant.yaml": changed}}
        answer = await self.client.put(f"{path}/draft", json=kept)
        self.assertEqual(answer.status_code, 200, answer.text)
        await self.client.post(f"{path}/publish")

    async def test_limits(self):
        guest = self.with_key("")
        for _ in range(3):
            self.assertEqual((await self.say(guest)).status_code, 200)
        self.assert_problem(await self.say(guest), 429, "too-many")
        self.assertEqual((await self.say(self.with_key(""))).status_code, 200)
        self.assert_problem(await self.say(self.with_key("")), 429, "too-many")
        long = (await self.say(self.with_key("", Cookie=f"fond_echo_guest={guest.cookies.get('fond_echo_guest')}"),
                               content=note()))  # fmt: skip
        self.assertEqual(long.status_code, 429)

    async def test_a_note_longer_than_allowed(self):
        guest = self.with_key("")
        reported = (
            await self.say(guest, content=note(QUESTION + " " + QUESTION + " " + QUESTION))
        ).json()
        self.assertEqual(reported["error"]["code"], "sound-too-long")
        self.assertIn("too long", reported["answer"])

    async def test_more_guests_than_are_answered_at_once(self):
        self.service.asking["desk"] = 40
        response = await self.say(self.with_key(""))
        self.assert_problem(response, 503, "too-busy")
        self.assertEqual(response.headers["retry-after"], "2")

    async def test_forged_guests_and_other_sites(self):
        guest = self.with_key("", Cookie="fond_echo_guest=somebody.0123456789abcdef")
        response = await self.say(guest)
        self.assertIn("set-cookie", response.headers, "a new guest, not the one that was forged")
        self.assert_problem(
            await self.say(guest, headers={"Origin": "http://evil.test"}), 403, "not-allowed"
        )
        self.assert_problem(await guest.get("/at/guessed/about"), 404, "not-found")
        self.assert_problem(
            await guest.post("/at/guessed/say", json={"text": "x"}), 404, "not-found"
        )


class Operating(ChannelTest):
    async def failed(self):
        self.logic.answer = logic_that_fails
        reported = (
            await self.working(self.client.post("/ask/desk", json={"text": QUESTION}))
        ).json()
        self.assertEqual(reported["state"], "failed")
        return reported["turn"]

    async def test_a_failed_turn_is_tried_again_by_hand(self):
        turn_id = await self.failed()
        self.logic.answer = lambda requested: Reply(text="At noon.")
        response = await self.client.post(f"/api/turns/{turn_id}/retry")
        self.assertEqual(response.json()["state"], "received")
        await self.work()
        turn = (await self.client.get(f"/api/turns/{turn_id}")).json()
        self.assertEqual((turn["state"], turn["error"]), ("answered", None))
        self.assertEqual(len(turn["runs"]), 2)
        self.assertEqual(turn["deliveries"][-1]["text"], "At noon.")
        # The last of a conversation is answered again, from what was before it.
        self.logic.answer = lambda requested: Reply(text="At one.")
        await self.client.post(f"/api/turns/{turn_id}/retry")
        await self.work()
        turn = (await self.client.get(f"/api/turns/{turn_id}")).json()
        self.assertEqual(turn["deliveries"][-1]["text"], "At one.")
        await self.working(self.client.post("/ask/desk", json={"text": QUESTION}))
        self.assert_problem(await self.client.post(f"/api/turns/{turn_id}/retry"), 409, "conflict")

    async def test_a_delivery_in_doubt_is_decided(self):
        turn_id = (
            await self.working(self.client.post("/ask/desk", json={"text": QUESTION}))
        ).json()["turn"]
        async with self.database.writing() as session:
            await session.execute(update(Delivery).values(state="in-doubt"))
        turn = (await self.client.get(f"/api/turns/{turn_id}")).json()
        path = f"/api/turns/{turn_id}/deliveries/{turn['deliveries'][0]['id']}/decision"
        for decision, state in (("drop", "dropped"), ("retry", "sent")):
            response = await self.client.post(path, json={"decision": decision})
            self.assertEqual(response.status_code, 200, response.text)
            await self.work()
            turn = (await self.client.get(f"/api/turns/{turn_id}")).json()
            self.assertEqual(turn["deliveries"][0]["state"], state)
        self.assert_problem(
            await self.client.post(path, json={"decision": "sent"}), 409, "conflict"
        )

    async def test_contacts_are_seen_allowed_blocked_and_erased(self):
        async with self.database.writing() as session:
            await session.execute(
                update(Channel)
                .where(Channel.name == "desk")
                .values(settings={"access": {"mode": "list"}})
            )
        reported = (
            await self.working(
                self.client.post("/ask/desk", json={"text": QUESTION, "contact": "isla"})
            )
        ).json()
        self.assertIn("on its list", reported["answer"])
        channels = {each["name"]: each for each in (await self.client.get("/api/channels")).json()}
        self.assertEqual(channels["desk"]["refused"], 1)
        refused = (await self.client.get("/api/channels/desk/contacts?standing=refused")).json()[
            "items"
        ]
        self.assertEqual(refused[0]["external_id"], "isla")
        base = f"/api/channels/desk/contacts/{refused[0]['id']}"
        await self.client.put(base + "/standing", json={"standing": "allowed"})
        reported = (
            await self.working(
                self.client.post("/ask/desk", json={"text": QUESTION, "contact": "isla"})
            )
        ).json()
        self.assertEqual(reported["route"], "next-sailing")
        await self.client.put(base + "/standing", json={"standing": "blocked"})
        self.assert_problem(
            await self.client.post("/ask/desk", json={"text": "x", "contact": "isla"}),
            409,
            "conflict",
        )
        erased = (await self.client.delete(base)).json()
        self.assertTrue(erased["erased_at"])
        async with self.database.reading() as session:
            self.assertEqual(set((await session.scalars(select(Turn.text))).all()), {""})

    async def test_keys_are_made_used_and_revoked(self):
        made = (
            await self.client.post("/api/keys", json={"name": "desk", "scopes": ["read"]})
        ).json()
        other = self.with_key(made["key"])
        self.assertEqual((await other.get("/api/turns")).status_code, 200)
        listed = (await self.client.get("/api/keys")).text
        self.assertNotIn(made["key"], listed)
        self.assertTrue((await self.client.delete(f"/api/keys/{made['id']}")).json()["revoked_at"])
        self.assert_problem(await other.get("/api/turns"), 401, "not-signed-in")
        mine = next(
            each["id"]
            for each in (await self.client.get("/api/keys")).json()
            if each["name"] == "first"
        )
        self.assert_problem(await self.client.delete(f"/api/keys/{mine}"), 409, "conflict")

    async def test_a_line_with_contacts_is_not_taken_away(self):
        await self.working(self.client.post("/ask/desk", json={"text": QUESTION}))
        self.assert_problem(await self.client.delete("/api/channels/desk"), 409, "conflict")
        self.assertEqual((await self.client.delete("/api/channels/skerry")).status_code, 204)
        self.assert_problem(await self.client.get("/api/channels/skerry"), 404, "not-found")


class Challenged(WebTest):
    async def test_a_network_asks_whether_the_address_is_ours(self):
        await self.fill()
        text = demo_file("skerry.yaml").replace(
            "  webhook:\n",
            "  webhook:\n    challenge: {query: echo, token: mark, key: {secret: skerry-mark}}\n",
        )
        channel = {
            "assistant": "harbour-desk",
            "connector": text,
            "values": {"base": "http://skerry.test"},
        }
        self.assertEqual(
            (await self.client.put("/api/channels/skerry", json=channel)).status_code, 200
        )
        good = await self.nobody.get(
            "/webhooks/skerry", params={"echo": "abc", "mark": "mark-of-the-network"}
        )
        self.assertEqual((good.status_code, good.text), (200, "abc"))
        self.assert_problem(
            await self.nobody.get("/webhooks/skerry", params={"echo": "abc"}), 401, "webhook-forged"
        )
