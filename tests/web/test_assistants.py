"""Checking and trying assistants over the API; a person in a conversation; a contact's memory."""

import asyncio
import base64
import time
from unittest import mock

from fond_echo.core.audio.clip import silence
from fond_echo.core.audio.containers import encode
from fond_echo.demo.world import files_of
from tests.sounds import speech
from tests.support.web import WebTest

FILES = files_of("harbour-desk")


class Trying(WebTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()

    async def tried(self, text="", state=None, **more):
        body = {"text": text, "state": state or {}, **more}
        answer = await self.client.post("/api/assistants/harbour-desk/try", json=body)
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.json()

    async def test_a_talk(self):
        reported = await self.tried("I'd like to book a bicycle place")
        self.assertEqual(
            (reported["route"], reported["by"], reported["outcome"]),
            ("book-bicycle", "rule", "ask"),
        )
        reported = await self.tried("two to Pell tomorrow", reported["state"])
        self.assertIn("2 bicycle places to Pell", reported["replies"][0]["text"])
        reported = await self.tried("yes", reported["state"])
        self.assertIn("was not asked in a try", reported["not_run"])
        self.assertEqual(reported["slots"]["island"], "Pell")

    async def test_every_score_is_told(self):
        reported = await self.tried("how much is a ticket for a child")
        self.assertEqual(reported["route"], "fares")
        scores = [each["score"] for each in reported["scores"]]
        self.assertEqual((len(scores), scores), (8, sorted(scores, reverse=True)))
        self.assertIn("four pounds", reported["spoken"])

    async def test_files_that_are_not_kept(self):
        changed = {
            **FILES,
            "assistant.yaml": FILES["assistant.yaml"].replace("Lost things", "Found things"),
        }
        reported = await self.tried("lost property", files=changed)
        self.assertIn("Found things", reported["replies"][0]["text"])
        self.assertIn("Lost things", (await self.tried("lost property"))["replies"][0]["text"])
        answer = await self.client.post("/api/assistants/nobody/try", json={"text": "x"})
        self.assertEqual(answer.status_code, 404)

    async def test_a_reply_with_a_file_and_logic_that_may_answer_late(self):
        text = FILES["assistant.yaml"]
        text = text.replace(
            "routes:\n",
            """routes:
  - route: show-map
    examples: [Show me a map of the islands]
    reply: {text: Here it is., attachments: [{file: sounds/horn.ogg}]}
""",
            1,
        ).replace(
            "key: {secret: timetable-mark}", "key: {secret: timetable-mark}\n    late_seconds: 60"
        )
        self.assertIn("late_seconds", text)
        files = {**FILES, "assistant.yaml": text}
        reported = await self.tried("Show me a map of the islands", files=files)
        (reply,) = reported["replies"]
        self.assertEqual(reply["attachments"][0]["file"], "sounds/horn.ogg")
        reported = await self.tried("When is the next boat to Brannick?", files=files)
        self.assertEqual(reported["route"], "next-sailing", reported)
        self.assertIn("cannot reach the timetable", reported["replies"][0]["text"])

    async def test_a_recording(self):
        note = encode(speech("How much is a ticket?", "curlew"), "ogg")
        sound = "data:audio/ogg;base64," + base64.b64encode(note).decode()
        reported = await self.tried(sound=sound)
        self.assertEqual(
            (reported["heard"]["written"], reported["route"]), ("How much is a ticket?", "fares")
        )
        reported = await self.tried("next boat to Pell")
        self.assertIsNone(reported["heard"])
        path = "/api/assistants/harbour-desk/try"
        for given, code in (
            ("***", "nothing-asked"),
            (base64.b64encode(b"%PDF" * 99).decode(), "sound-unknown"),
            (base64.b64encode(encode(silence(1.0, 16_000), "wav")).decode(), "nothing-heard"),
        ):
            self.assert_problem(await self.client.post(path, json={"sound": given}), 422, code)

    async def test_checking(self):
        answer = await self.client.post("/api/assistants/check", json={"files": FILES})
        self.assertEqual(answer.json()["errors"], [])
        wrong = {
            **FILES,
            "assistant.yaml": FILES["assistant.yaml"].replace(
                "voice: whimbrel", "voice: whimbrell"
            ),
        }
        (fault,) = (await self.client.post("/api/assistants/check", json={"files": wrong})).json()[
            "errors"
        ]
        self.assertEqual((fault["line"], fault["remedy"]), (4, "did you mean whimbrel?"))

    async def test_the_same_files_are_checked_once(self):
        checking = self.service._checking
        with mock.patch.object(checking, "run", wraps=checking.run) as run:
            for files, count in (
                (FILES, 0),  # it was, when it was put
                ({**FILES, "more.txt": "x"}, 1),
                (dict(reversed(FILES.items())), 1),
                ({"more.txt": "x", **FILES}, 1),
            ):
                answer = await self.client.post("/api/assistants/check", json={"files": files})
                self.assertEqual(answer.status_code, 200)
                self.assertEqual(run.call_count, count)

    async def test_hostile_files_hold_up_nobody(self):
        main = FILES["assistant.yaml"]
        pauses, done = [], asyncio.Event()

        async def others() -> None:
            """What everybody else waits while the files are checked."""
            while not done.is_set():
                begun = time.monotonic()
                self.assertEqual((await self.nobody.get("/health")).status_code, 200)
                pauses.append(time.monotonic() - begun)
                await asyncio.sleep(0.01)

        waiting = asyncio.create_task(others())
        path, errors = "/api/assistants/check", []
        for name, text in (
            ("rounded without end", main + "\n# {{ 1|round(-90000000) }}\n"),
            ("many openings", main.replace("whimbrel", "{{" * 12_000)),
            ("many unknown keys", main + "\n" + "".join(f"k{n}: 1\n" for n in range(30_000))),
            ("deep", main + "\nx: " + "[" * 900 + "]" * 900 + "\n"),
        ):
            with self.subTest(name):
                body = {"files": {**FILES, "assistant.yaml": text}}
                answer = await self.client.post(path, json=body)
                self.assertIn(answer.status_code, (200, 422), answer.text[:300])
                errors.append(len(answer.json().get("errors", ())))
        done.set()
        await waiting
        self.assertLessEqual(max(errors), 100)
        self.assertLess(max(pauses), 5.0)

    async def test_a_key_that_reads_checks_nothing(self):
        made = (await self.client.post("/api/keys", json={"name": "r", "scopes": ["read"]})).json()
        reader = self.with_key(made["key"])
        answer = await reader.post("/api/assistants/check", json={"files": FILES})
        self.assertEqual(answer.status_code, 403)

    async def test_back_to_an_earlier_revision(self):
        (first,) = (await self.client.get("/api/assistants/harbour-desk/revisions")).json()
        changed = {**FILES, "assistant.yaml": FILES["assistant.yaml"] + "\n# changed\n"}
        await self.client.put("/api/assistants/harbour-desk/draft", json={"files": changed})
        await self.client.post("/api/assistants/harbour-desk/publish")
        live = (await self.client.get("/api/assistants/harbour-desk/revisions/live")).json()[
            "files"
        ]
        self.assertTrue(live["assistant.yaml"].endswith("# changed\n"))
        back = await self.client.post(
            "/api/assistants/harbour-desk/publish", json={"revision": first["digest"]}
        )
        self.assertEqual(back.json()["live"], first["digest"])
        for wrong in ("0" * 64, "nothing"):
            answer = await self.client.post(
                "/api/assistants/harbour-desk/publish", json={"revision": wrong}
            )
            self.assertEqual(answer.status_code, 404)


class Persons(WebTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        await self.client.put(
            "/api/channels/desk", json={"kind": "http", "assistant": "harbour-desk"}
        )

    async def worked(self, text):
        """What became of something that Isla said over the HTTP channel."""
        requested = self.client.post("/ask/desk", json={"text": text, "contact": "isla"})
        turn_id = (await self.working(requested)).json()["turn"]
        return (await self.client.get(f"/api/turns/{turn_id}")).json()

    async def test_handed_over_answered_and_given_back(self):
        turn = await self.worked("a person, please")
        self.assertIn("Maren Aldous", turn["deliveries"][0]["text"])
        (conversation,) = (await self.client.get("/api/conversations")).json()["items"]
        self.assertEqual(conversation["answering"], "operator")
        silent = await self.worked("are you there?")
        self.assertEqual((silent["state"], silent["deliveries"]), ("answered", []))
        address = f"/api/conversations/{conversation['id']}"
        said = await self.client.post(f"{address}/messages", json={"text": "Maren here."})
        self.assertEqual(said.status_code, 201)
        await self.work()
        turn = (await self.client.get(f"/api/turns/{said.json()['id']}")).json()
        self.assertEqual(
            (turn["cause"], turn["deliveries"][0]["text"]), ("operator", "Maren here.")
        )
        await self.client.put(f"{address}/answering", json={"by": "assistant"})
        self.assertEqual((await self.worked("how much is a ticket"))["route"], "fares")
        for method, path in (("POST", "messages"), ("PUT", "answering")):
            body = {"text": "x"} if path == "messages" else {"by": "operator"}
            answer = await self.client.request(method, f"/api/conversations/none/{path}", json=body)
            self.assertEqual(answer.status_code, 404)

    async def test_memory_is_shown_replaced_forgotten_and_undone(self):
        await self.worked("hello")
        (contact,) = (await self.client.get("/api/channels/desk/contacts")).json()["items"]
        address = f"/api/channels/desk/contacts/{contact['id']}/memory"
        put = await self.client.put(address, json={"island": "Pell", "gone": None})
        self.assertEqual(put.json(), {"island": "Pell"})
        self.assertIn(
            "island: Pell",
            (await self.worked("what do you know about me"))["deliveries"][0]["text"],
        )
        self.assertIn(
            "forgotten", (await self.worked("forget everything about me"))["deliveries"][0]["text"]
        )
        self.assertEqual((await self.client.get(address)).json(), {})
        await self.worked("undo that")
        self.assertEqual((await self.client.get(address)).json(), {"island": "Pell"})
        self.assertEqual((await self.client.delete(address)).status_code, 204)
