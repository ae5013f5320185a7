"""Engines over the API: connected, listed with what they did, tried, disconnected."""

import base64
import unittest
from datetime import UTC, datetime

from fond_echo.contract.engine import EngineAsked
from fond_echo.core.audio.containers import encode
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.assistant import AssistantFile
from fond_echo.engines.connected import ConnectedEngines
from fond_echo.store.engines import count_asked
from fond_echo.store.records import Channel
from tests.support.engines import BASE, WORD, Gannet, engine_file, said
from tests.support.web import WebTest
from tests.support.world import PlainDecoder, demo_file


class Engines(WebTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.gannet = Gannet()
        installation = self.service.installation
        installation.connected = ConnectedEngines(self.gannet.client, PlainDecoder())
        await self.client.put(
            "/api/secrets/gannet-pass", json={"value": WORD, "hosts": ["gannet.test"]}
        )

    async def put(self, name, text=None):
        given = {"connector": text or engine_file(name), "values": {"base": BASE}}
        return await self.client.put(f"/api/engines/{name}", json=given)

    async def test_connected_listed_and_disconnected(self):
        found = (await self.put("far-ear")).json()
        self.assertEqual((found["does"], found["secrets"]), ("transcribe", ["gannet-pass"]))
        async with self.database.writing() as session:
            await count_asked(session, "desk", [
                EngineAsked(engine="far-ear", outcome="done", seconds=0.5, cost=0.01),
                EngineAsked(engine="far-ear", outcome="failed", why="it broke", seconds=0.1),
                EngineAsked(engine="far-ear", outcome="paused", why="resting"),
            ])  # fmt: skip
        (listed,) = (await self.client.get("/api/engines")).json()
        day = {
            "day": str(datetime.now(UTC).date()),
            "asked": 2,
            "failed": 1,
            "seconds": 0.6,
            "cost": 0.01,
        }
        self.assertEqual(listed["days"], [day])
        self.assertEqual((listed["last_error"], listed["paused_until"]), ("it broke", None))
        async with self.database.writing() as session:
            failed = EngineAsked(
                engine="far-ear", outcome="failed", why="again", pause_seconds=20.0
            )
            await count_asked(session, "desk", [failed])
        (listed,) = (await self.client.get("/api/engines")).json()
        until = datetime.fromisoformat(listed["paused_until"])
        self.assertAlmostEqual((until - datetime.now(UTC)).total_seconds(), 20, delta=5)
        self.assertEqual((await self.client.delete("/api/engines/far-ear")).status_code, 204)
        self.assert_problem(await self.client.get("/api/engines/far-ear"), 404, "not-found")
        self.assert_problem(await self.client.delete("/api/engines/far-ear"), 404, "not-found")

    async def test_a_channel_may_name_others_than_its_assistant(self):
        await self.put("far-ear")
        assistant = AssistantFile.model_validate(
            {"assistant": "desk", "fallback": {"reply": {"text": "Yes."}},
             "engines": {"transcribe": ["slow-ear"], "speak": ["far-voice"]}}
        )  # fmt: skip
        channel = Channel(name="quay", kind="chat", assistant="desk", connector=demo_file("skerry.yaml"),
                          values={"base": "http://skerry.test"}, facts={},
                          settings={"engines": {"transcribe": ["far-ear", "built-in"]}})  # fmt: skip
        needs = await self.service.installation.needs(channel, datetime.now(UTC), assistant)
        order = needs.recognizer.order
        self.assertEqual(order.names["transcribe"], ["far-ear", "built-in"])
        self.assertEqual(order.names["speak"], ["far-voice"])
        self.assertIn("far-ear", order.connected)
        self.assertIsNotNone(order.built_in("transcribe", "built-in"))
        self.assertIsNone(order.built_in("transcribe", "slow-ear"))
        self.service.installation.purpose = "call"
        self.addCleanup(setattr, self.service.installation, "purpose", "voice-note")
        needs = await self.service.installation.needs(channel, datetime.now(UTC), assistant)
        # In a call, those that are named for calls, or for the phone channel.
        order = needs.recognizer.order
        self.assertEqual(order.names, {"transcribe": ["far-ear", "built-in"]})
        self.assertFalse(needs.outside_voice)
        self.assertIsNone(needs.live(Expected(), "en"))
        assistant.engines.calls = {"speak": ["far-voice", "built-in"]}
        needs = await self.service.installation.needs(channel, datetime.now(UTC), assistant)
        self.assertTrue(needs.outside_voice)

    async def test_what_cannot_be_connected(self):
        wrong = engine_file("far-ear").replace("{{ sound }}", "{{ noise }}")
        problem = self.assert_problem(await self.put("far-ear", wrong), 422, "file-invalid")
        self.assertIn("noise", str(problem))
        self.assert_problem(await self.put("near-ear", engine_file("far-ear")), 409, "conflict")
        ours = engine_file("far-ear").replace("engine: far-ear", "engine: built-in")
        self.assert_problem(await self.put("built-in", ours), 409, "conflict")
        self.assertEqual((await self.nobody.get("/api/engines")).status_code, 401)

    async def test_trials_show_each_exchange_without_secrets(self):
        for name in ("far-ear", "far-voice", "harbour-mind"):
            await self.put(name)
        sound = base64.b64encode(encode(said("Yes, please."), "ogg")).decode()
        heard = await self.client.post("/api/engines/far-ear/trials", json={"sound": sound})
        self.assertIn("please", heard.json()["text"])
        spoken = await self.client.post("/api/engines/far-voice/trials", json={"text": "Hello."})
        self.assertTrue(base64.b64decode(spoken.json()["sound"]).startswith(b"OggS"))
        answer = await self.client.post("/api/engines/harbour-mind/trials", json={"text": "Why?"})
        self.assertEqual(answer.json()["text"], "I do not know that.")
        for each in (heard, spoken, answer):
            self.assertEqual(each.json()["asked"]["outcome"], "done")
            self.assertNotIn(WORD, each.text)
        await self.gannet.fault("/thoughts", "broken")
        failed = await self.client.post("/api/engines/harbour-mind/trials", json={"text": "Why?"})
        self.assertIn("500", failed.json()["asked"]["why"])
        for name, given in (
            ("far-ear", {"text": "x"}),
            ("far-voice", {}),
            ("far-ear", {"sound": "?"}),
        ):
            found = await self.client.post(f"/api/engines/{name}/trials", json=given)
            self.assertIn(found.status_code, (200, 422), found.text)
            if found.status_code == 200:
                self.assertEqual(found.json()["asked"]["outcome"], "failed")


if __name__ == "__main__":
    unittest.main()
