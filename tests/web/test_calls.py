"""Calls over the API: asked for, seen, ended, erased with who was in them."""

import base64
from datetime import UTC, datetime, timedelta

from sqlalchemy import select

from fond_echo.core.audio.containers import encode
from fond_echo.phone.recording import MEDIA_TYPE
from fond_echo.store import calls as records
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.erasing import erase_contact
from fond_echo.store.event_records import Event
from fond_echo.store.records import BlobChunk, ClipRecord, Contact, Conversation
from fond_echo.store.retention import retain
from tests.sounds import tone
from tests.support.web import WebTest

PHONE = """\
phone: exchange
listen: {host: 127.0.0.1, port: 5070}
numbers: ["+441632960200", "2001"]
peers: [127.0.0.1]
outbound: {via: "127.0.0.1:5090", country: "44", allowed: ["+441632960*", quay]}
"""
CLOSED = PHONE.replace("outbound:", "# outbound:")


class Calls(WebTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        for name, text in (("exchange", PHONE), ("closed", CLOSED)):
            given = {"kind": "phone", "assistant": "harbour-desk", "connector": text}
            answer = await self.client.put(f"/api/channels/{name}", json=given)
            self.assertEqual(answer.status_code, 200, answer.text)

    async def place(self, channel="exchange", **changes):
        given = {"to": "01632 960102", "opening": {"text": "Your boat is off."}} | changes
        return await self.client.post(f"/api/channels/{channel}/calls", json=given)

    async def test_a_call_is_asked_for_seen_and_taken_back(self):
        requested = (await self.place(retry={"times": 2}, name="Piet Oduya")).json()
        self.assertEqual(
            (requested["number"], requested["caller"], requested["direction"], requested["state"]),
            ("+441632960102", "+441632960200", "out", "requested"),
        )
        reported = (await self.client.get(f"/api/calls/{requested['id']}")).json()
        self.assertEqual(reported, requested)
        listed = (await self.client.get("/api/channels/exchange/calls")).json()["items"]
        self.assertEqual([each["id"] for each in listed], [requested["id"]])
        ending = await self.client.post(f"/api/calls/{requested['id']}/end")
        self.assertEqual(ending.status_code, 202)
        async with self.database.reading() as session:
            self.assertEqual(await records.waiting(session, "exchange"), ([requested["id"]], False))
            self.assertEqual(await records.due_calls(session, "exchange", 5), [])
            kinds = (
                await session.scalars(select(Event.type).where(Event.type.like("call.%")))
            ).all()
        self.assertEqual(kinds, ["call.requested"])

    async def test_pages_of_a_list(self):
        ids = [(await self.place()).json()["id"] for _ in range(5)]
        page = (await self.client.get("/api/channels/exchange/calls?limit=3")).json()
        query = {"limit": 3, "cursor": page["next"]}
        more = (await self.client.get("/api/channels/exchange/calls", params=query)).json()
        found = [each["id"] for each in page["items"] + more["items"]]
        self.assertEqual((found, more["next"]), (ids[::-1], ""))

    async def test_what_may_not_be(self):
        sound = base64.b64encode(b"no sound at all").decode()
        for changes, status, code in (
            ({"to": "+33 1 99 00 12 34"}, 422, "number-not-allowed"),
            ({"to": "nobody at all"}, 422, "sip-value"),
            ({"to": "quay\r\nTo: x"}, 422, "sip-value"),
            ({"caller": "+15550100"}, 422, "sip-value"),
            ({"opening": {}}, 422, "request"),
            ({"opening": {"text": "a", "address": "http://h/"}}, 422, "request"),
            ({"opening": {"sound": sound}}, 422, "call-opening"),
            ({"opening": {"sound": "***"}}, 422, "call-opening"),
            ({"opening": {"assistant": "nobody"}}, 404, "not-found"),
            ({"retry": {"times": 100}}, 422, "request"),
            ({"channel": "closed"}, 422, "number-not-allowed"),
            ({"channel": "nowhere"}, 404, "not-found"),
        ):  # fmt: skip
            with self.subTest(changes=changes):
                self.assert_problem(await self.place(**changes), status, code)
        self.assert_problem(await self.client.get("/api/calls/none"), 404, "not-found")
        self.assert_problem(await self.client.post("/api/calls/none/end"), 404, "not-found")

    async def test_the_sound_of_an_opening_is_a_clip_as_long_as_it_is_kept(self):
        good = base64.b64encode(encode(tone(0.5), "ogg")).decode()
        requested = (await self.place(opening={"sound": good})).json()
        blobs = PostgresBlobs()
        async with self.database.reading() as session:
            order = (await session.get_one(records.Call, requested["id"])).order
            clip = await session.get_one(ClipRecord, order["opening"]["sound"])
        self.assertEqual((clip.origin, round(clip.seconds, 1)), ("opening", 0.5))
        now = datetime.now(UTC)
        async with self.database.writing() as session:
            await records.change(session, requested["id"], state="ended", ended_at=now)
            for count in (1, 0):
                found = await records.keep_calls_no_longer(
                    session, blobs, "exchange", now + timedelta(days=1), words=False, most=5
                )
                self.assertEqual(found, count)
            self.assertIsNone(await session.get(ClipRecord, clip.id))

    async def test_pages_of_a_recording_become_a_clip_and_are_erased_with_the_contact(self):
        requested = (await self.place()).json()
        unanswered = (await self.place()).json()
        other = (await self.place(to="quay")).json()
        async with self.database.writing() as session:
            contact = Contact(channel="exchange", external_id="+441632960102")
            session.add(contact)
            await session.flush()
            session.add(
                Conversation(channel="exchange", contact_id=contact.id, external_id="call-1")
            )
            await records.change(session, requested["id"], conversation="call-1", state="answered")
            for number, data in enumerate((b"Ogg", b"S and", b" more")):
                await records.keep_pages(session, [(requested["id"], number, data)])
            blobs = PostgresBlobs()
            record = await records.bind_recording(session, blobs, requested["id"], MEDIA_TYPE)
            self.assertEqual(await blobs.get(session, record.digest), b"OggS and more")
            again = await records.bind_recording(session, blobs, requested["id"], MEDIA_TYPE)
            self.assertIsNone(again)
        reported = (await self.client.get(f"/api/calls/{requested['id']}")).json()
        self.assertEqual(reported["recording"]["size"], 13)
        sound = await self.client.get(f"/api/clips/{reported['recording']['id']}/sound")
        self.assertEqual(sound.content, b"OggS and more")
        await erase_contact(self.database, PostgresBlobs(), contact.id)
        reported = (await self.client.get(f"/api/calls/{requested['id']}")).json()
        self.assertEqual(
            (reported["number"], reported["recording"], reported["timeline"]), ("", None, [])
        )
        numbers = [
            (await self.client.get(f"/api/calls/{each['id']}")).json()["number"]
            for each in (unanswered, other)
        ]
        self.assertEqual(numbers, ["", "quay"])
        async with self.database.reading() as session:
            events = (
                await session.scalars(
                    select(Event).where(Event.type == "call.requested").order_by(Event.id)
                )
            ).all()
        self.assertEqual([each.data.get("number") for each in events], [None, None, "quay"])
        async with self.database.reading() as session:
            for table in (ClipRecord, BlobChunk):
                left = (await session.scalars(select(table))).all()
                self.assertFalse(
                    [each for each in left if getattr(each, "origin", "") == "recorded"]
                )

    async def test_what_a_line_keeps_no_longer(self):
        requested = (await self.place()).json()
        channel = (await self.client.get("/api/channels/exchange")).json()
        kept = {**channel["settings"], "retention": {"sound_days": 2, "text_days": 9}}
        given = {name: channel[name] for name in ("kind", "assistant", "connector")}
        answer = await self.client.put("/api/channels/exchange", json={**given, "settings": kept})
        self.assertEqual(answer.status_code, 200, answer.text)
        now, blobs = datetime.now(UTC), PostgresBlobs()
        async with self.database.writing() as session:
            await records.change(session, requested["id"], state="ended", ended_at=now)
            await records.keep_pages(session, [(requested["id"], 0, b"OggS")])
            await records.bind_recording(session, blobs, requested["id"], MEDIA_TYPE)
        for days, count, number, recorded in (
            (1, 0, "+441632960102", True), (3, 1, "+441632960102", False), (3, 0, "+441632960102", False),
            (10, 1, "", False), (10, 0, "", False),
        ):  # fmt: skip
            later = now + timedelta(days=days)
            found = await retain(self.database, blobs, later, event_days=30)
            reported = (await self.client.get(f"/api/calls/{requested['id']}")).json()
            self.assertEqual(
                (found, reported["number"], bool(reported["recording"])), (count, number, recorded)
            )

    async def test_minutes_of_a_day_are_counted(self):
        requested = (await self.place()).json()
        now = datetime.now(UTC)
        midnight = now.replace(hour=0, minute=0, second=0, microsecond=0)
        async with self.database.writing() as session:
            self.assertEqual(await records.minutes_today(session, "exchange"), 0)
            await records.change(
                session, requested["id"], state="ended", answered_at=midnight, ended_at=now
            )
            minutes = await records.minutes_today(session, "exchange")
        self.assertAlmostEqual(minutes, (now - midnight).total_seconds() / 60, places=3)
