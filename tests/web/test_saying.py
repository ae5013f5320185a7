"""The assistant speaks first: to one or a list, never twice, and not to who has opted out."""

import asyncio
from datetime import datetime

from sqlalchemy import text

from fond_echo.contract.saying import SayIn
from fond_echo.store.saying import send_due
from fond_echo.web.errors import NotUsable
from fond_echo.web.saying import due
from tests.web.test_commands import Commands


class Saying(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        for number, who in enumerate(("isla", "piet"), 1):
            sender = {"id": who, "name": who.title(), "automated": False}
            post = self.post(id=f"p-{number}", words="How much is a ticket?", room=f"room-{who}",
                             sender=sender)  # fmt: skip
            await self.send({"posts": [post]})
        await self.send_on()

    async def send_on(self):
        """What a work process does: make turns of what is due, and carry them."""
        count = await send_due(self.database)
        await self.work()
        return count

    async def rooms(self):
        """What the bot posted last in each room, from the network's own records."""
        found = {}
        for who in ("isla", "piet"):
            posts = (await self.of_network(f"/rooms/room-{who}/posts")).json()["posts"]
            found[who] = [each for each in posts if each["sender"]["automated"]]
        return found

    async def of_network(self, path):
        return await self.service.builder.client.get(f"http://skerry.test{path}")

    async def test_a_list_is_written_to_once_each_with_its_own_words(self):
        path = self.file("list.csv", "contact,boat\nisla,the Petrel\npiet,the Dunlin\n")
        given = ("conversation", "say", "skerry", "{{ values.boat }} sails late today.",
                 "--list", path, "--idempotency-key", "storm-1")  # fmt: skip
        out = await self.says(*given)
        self.assertEqual(out.count("queued"), 2)
        await self.send_on()
        rooms = await self.rooms()
        self.assertEqual(rooms["isla"][-1]["words"], "the Petrel sails late today.")
        self.assertEqual(rooms["piet"][-1]["words"], "the Dunlin sails late today.")
        out = await self.says(*given)
        self.assertEqual(out.count("duplicate"), 2)
        await self.send_on()
        self.assertEqual(len((await self.rooms())["isla"]), len(rooms["isla"]))
        # The reply joins the conversation.
        await self.asks("How much is a ticket?", id="reply-1")
        turns = (await self.client.get("/api/turns", params={"channel": "skerry"})).json()["items"]
        mine = {
            each["conversation"]
            for each in turns
            if each["contact_name"] in ("Isla Quennell", "Isla")
        }
        self.assertEqual(len(mine), 1)

    async def test_as_a_voice_note(self):
        self.service.synthesizer = None
        await self.says("conversation", "say", "skerry", "The boat is late.", "--contact", "isla",
                        "--spoken")  # fmt: skip
        await self.send_on()
        last = (await self.rooms())["isla"][-1]
        self.assertEqual(last["sound"]["as"], "note")

    async def test_who_has_opted_out_is_answered_and_not_written_to(self):
        contacts = (await self.client.get("/api/channels/skerry/contacts")).json()["items"]
        isla = next(each for each in contacts if each["external_id"] == "isla")
        place = f"/api/channels/skerry/contacts/{isla['id']}/opted-out"
        found = await self.client.put(place, json={"opted_out": True})
        self.assertTrue(found.json()["opted_out"])
        given = {"contacts": [{"contact": "isla"}, {"contact": "nobody"}], "text": "Good news."}
        told = (await self.client.post("/api/channels/skerry/messages", json=given)).json()
        states = [each["state"] for each in told["results"]]
        self.assertEqual(states, ["opted-out", "unknown"])
        turn = await self.asks("How much is a ticket?", id="still-1")
        self.assertEqual(turn["state"], "answered")
        await self.client.put(place, json={"opted_out": False})
        # Whoever opts out while it is queued is not written to; of two workers one sends it.
        before = len((await self.rooms())["isla"])
        await self.client.post("/api/channels/skerry/messages", json=given)
        await self.client.put(place, json={"opted_out": True})
        await self.send_on()
        self.assertEqual(len((await self.rooms())["isla"]), before)
        await self.client.put(place, json={"opted_out": False})
        await self.client.post("/api/channels/skerry/messages", json=given)
        await asyncio.gather(*(send_due(self.database) for _ in range(3)))
        await self.work()
        self.assertEqual(len((await self.rooms())["isla"]), before + 1)
        told = (await self.client.post("/api/channels/skerry/messages", json=given)).json()
        self.assertEqual(told["results"][0]["state"], "queued")

    async def test_words_wait_for_their_time_are_listed_and_taken_back(self):
        base = ("conversation", "say", "skerry", "Good morning.", "--contact", "isla")
        out = await self.says(*base, "--contact", "piet", "--at", "2099-07-01T08:00", "--zone",
                              "Europe/London", "--idempotency-key", "july")  # fmt: skip
        self.assertEqual(out.count("scheduled"), 2)
        self.assertIn("01 Jul 07:00 UTC", out)
        again = await self.says(
            *base, "--at", "2099-07-02T08:00+00:00", "--idempotency-key", "july"
        )
        self.assertIn("duplicate", again)
        self.assertEqual(len(await self.reported("conversation", "scheduled", "skerry")), 2)
        self.assertEqual(await send_due(self.database), 0)
        # Who is erased meanwhile is not written to; the rest is sent on when it is due, once.
        contacts = (await self.client.get("/api/channels/skerry/contacts")).json()["items"]
        piet = next(each for each in contacts if each["external_id"] == "piet")
        await self.client.delete(f"/api/channels/skerry/contacts/{piet['id']}")
        self.assertEqual(len(await self.reported("conversation", "scheduled", "skerry")), 1)
        async with self.database.writing() as session:
            await session.execute(text("UPDATE outgoing_messages SET due_at = now()"))
        self.assertEqual(await send_due(self.database), 1)
        self.assertEqual(await send_due(self.database), 0)
        await self.send_on()
        self.assertEqual((await self.rooms())["isla"][-1]["words"], "Good morning.")
        self.assertIn("duplicate", await self.says(*base, "--idempotency-key", "july"))
        await self.says(*base, "--at", "2099-07-03T08:00+00:00", "--idempotency-key", "third")
        await self.says("conversation", "cancel", "skerry", "third")
        self.assertEqual(await self.reported("conversation", "scheduled", "skerry"), [])
        err = await self.fails("conversation", "cancel", "skerry", "third")
        self.assertIn("nothing is scheduled with the key 'third'", err)

    def test_quiet_hours_and_zones(self):
        def at(now, given="", **more):
            when = datetime.fromisoformat(given) if given else None
            asked = SayIn(contacts=[{"contact": "isla"}], text="x", at=when, **more)
            found = due(asked, "", datetime.fromisoformat(now))
            return f"{found:%d %H:%M}" if found else ""

        london = {"zone": "Europe/London", "quiet": "21:00-08:00"}
        self.assertEqual(at("2026-07-01T12:00+00:00", **london), "")
        self.assertEqual(at("2026-07-01T20:30+00:00", **london), "02 07:00")
        self.assertEqual(at("2026-07-01T06:30+00:00", **london), "01 07:00")
        self.assertEqual(at("2026-07-01T12:00+00:00", "2026-07-01T23:00", **london), "02 07:00")
        self.assertEqual(at("2026-07-01T12:00+00:00", "2026-07-01T15:00", zone="Europe/London"),
                         "01 14:00")  # fmt: skip
        for given, what in (
            ({"quiet": "21:00-08:00"}, "which time zone"), ({"zone": "Mars/North"}, "no time zone"),
        ):  # fmt: skip
            with self.subTest(what=what), self.assertRaisesRegex(NotUsable, what):
                at("2026-07-01T12:00+00:00", **given)
        with self.assertRaisesRegex(NotUsable, "was before now"):
            at("2026-07-01T12:00+00:00", "2026-06-01T12:00+00:00")

    async def test_a_contact_says_so_itself_and_takes_it_back(self):
        given = {"contacts": [{"contact": "isla"}], "text": "Good news."}
        for number, (words, answer, state) in enumerate((
            ("Stop writing to me, please", "I will only answer", "opted-out"),
            ("You may write to me again.", "write to you first again", "queued"),
        )):  # fmt: skip
            turn = await self.asks(words, id=f"wish-{number}")
            self.assertIn(answer, turn["deliveries"][0]["text"])
            told = (await self.client.post("/api/channels/skerry/messages", json=given)).json()
            self.assertEqual(told["results"][0]["state"], state)

    async def test_a_list_with_faults_sends_nothing_to_anybody(self):
        before = await self.rooms()
        for rows, words, what in (
            ("contact,boat\nisla,a\nisla,b\n", "Late.", "2: isla stands in line 1 too"),
            ("contact,boat\nisla,a\n", "{{ values.ship }}", "ship"),
            ("contact\nisla\n", "{{ values.ship", "cannot be read"),
            ("name\nisla\n", "Late.", "no column contact"),
            ("contact,boat\n,a\n", "Late.", "line 2: no contact"),
            ("contact,boat\nisla,a,b\n", "Late.", "more values than columns"),
        ):
            with self.subTest(what=what):
                path = self.file("list.csv", rows)
                err = await self.fails("conversation", "say", "skerry", words, "--list", path)
                self.assertIn(what, err)
        await self.client.put(
            "/api/channels/desk", json={"kind": "http", "assistant": "harbour-desk"}
        )
        err = await self.fails("conversation", "say", "desk", "Late.", "--contact", "isla")
        self.assertIn("it is of kind http", err)
        self.assertIn(
            "nobody is to be written to", await self.fails("conversation", "say", "skerry", "x")
        )
        await self.send_on()
        self.assertEqual(await self.rooms(), before)
