"""Engines beside one another on the same recordings and texts, from the terminal."""

import json

from fond_echo.core.audio.containers import encode
from fond_echo.engines.connected import ConnectedEngines
from tests.support.engines import BASE, WORD, Gannet, engine_file, said
from tests.support.world import LocalSpeech, PlainDecoder
from tests.web.test_commands import Commands

SENTENCES = {
    "a": "How much is a ticket?",
    "b": "When does the next boat to Pell sail?",
    "c": "I want to leave a word for the crew.",
}


class Benches(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.gannet = Gannet(wrong=0.0)
        self.service.installation.connected = ConnectedEngines(self.gannet.client, PlainDecoder())
        self.service.synthesizer = LocalSpeech()
        await self.client.put(
            "/api/secrets/gannet-pass", json={"value": WORD, "hosts": ["gannet.test"]}
        )
        for name in ("far-ear", "slow-ear", "far-voice"):
            given = {"connector": engine_file(name), "values": {"base": BASE}}
            self.assertEqual(
                (await self.client.put(f"/api/engines/{name}", json=given)).status_code, 200
            )

    def recordings(self):
        for name, text in SENTENCES.items():
            self.file(f"notes/{name}.txt", text)
            (self.folder / "notes" / f"{name}.ogg").write_bytes(encode(said(text), "ogg"))
        return self.folder / "notes"

    async def test_engines_that_hear_are_ranked_and_what_failed_is_asked_again(self):
        folder = self.recordings()
        await self.gannet.fault("/tasks", "broken")
        command = ("bench", "run", "notes", folder, "--engine", "far-ear", "--engine", "slow-ear",
                   "--engine", "built-in")  # fmt: skip
        out = await self.says(*command)
        self.assertRegex(out, r"slow-ear +│ +100.0%.*3 of 3")
        await self.gannet.fault("/tasks", None)
        asked = await self.asked()
        picture = self.folder / "ranking.svg"
        out = await self.says(*command, "--picture", picture)
        self.assertRegex(out, r"slow-ear +│ +\d+\.\d%.*0 of 3")
        self.assertIn("<svg", picture.read_text())
        # What was done was not asked again.
        self.assertEqual((asked, await self.asked()), (3, 3))
        found = await self.reported("bench", "show", "notes")
        self.assertEqual(
            {each["engine"] for each in found["ranked"]}, {"far-ear", "slow-ear", "built-in"}
        )
        far = next(each for each in found["ranked"] if each["engine"] == "far-ear")
        self.assertGreater(far["cost_each"], 0)
        self.assertEqual(far["files"], 3)
        self.assertEqual(len(found["answers"]), 9)

    async def asked(self):
        return (await self.gannet.client.get(BASE)).json()["asked"].count("hearing")

    async def put(self, bench, engine, texts, **fields):
        answers = [
            {
                "engine": engine,
                "file": f"{name}.ogg",
                "said": SENTENCES[name],
                "text": text,
                **fields,
            }
            for name, text in texts.items()
        ]
        found = await self.client.post(f"/api/benches/{bench}/answers", json=answers)
        self.assertEqual(found.status_code, 204, found.text)

    async def test_two_engines_and_two_runs_beside_one_another(self):
        for name in ("notes", "later"):
            await self.client.put(f"/api/benches/{name}", json={"does": "transcribe"})
        wrong = dict.fromkeys(SENTENCES, "something else was heard here")
        await self.put("notes", "far-ear", SENTENCES)
        await self.put("notes", "slow-ear", wrong)
        await self.put("later", "far-ear", {**SENTENCES, "a": "how much is a thicket"})
        out = await self.says(
            "bench", "compare", "notes", "--engine", "slow-ear", "--engine", "far-ear"
        )
        self.assertRegex(
            out, r"slow-ear has 1?\d\d\.\d% of the words more wrong than far-ear, on 3 files"
        )
        self.assertIn("That is more than chance.", out)
        self.assertIn("worse on 3: a.ogg, b.ogg, c.ogg", out)
        out = await self.says("bench", "compare", "notes", "later", "--engine", "far-ear")
        self.assertRegex(
            out, r"far-ear in notes has \d\.\d% of the words fewer wrong than in later"
        )
        self.assertIn("That may be chance.", out)
        out = await self.says("bench", "show", "later", "--file", "a.ogg")
        self.assertIn("far-ear: how much is a ticket→thicket", out)
        self.assertIn("1 of 5 words wrong", out)
        out = await self.says("bench", "show")
        self.assertRegex(out, r"later +transcribe +en")
        out = await self.says("bench", "show", "later")
        self.assertIn("a.ogg: how much is a ticket→thicket", out)
        await self.says("bench", "delete", "later")
        self.assertIn("there is no bench later", await self.fails("bench", "show", "later"))

    async def test_engines_that_speak_are_heard_again(self):
        self.file("texts/a.txt", SENTENCES["a"])
        found = await self.reported(
            "bench",
            "run",
            "voices",
            self.folder / "texts",
            "--engine",
            "far-voice",
            "--engine",
            "built-in",
        )
        self.assertEqual(found["does"], "speak")
        for each in found["ranked"]:
            self.assertGreater(each["length"], 0.5, each["engine"])
            self.assertGreater(each["first_seconds"], 0.0, each["engine"])
            self.assertAlmostEqual(each["level"], -16.0, delta=3.0)

    async def test_cases_with_a_recording_are_a_folder_too(self):
        case = {"case": "ticket", "sound": "ticket.ogg", "expect": {"heard": SENTENCES["a"]}}
        self.file("desk/cases/ticket.yaml", json.dumps(case))
        (self.folder / "desk/cases/ticket.ogg").write_bytes(encode(said(SENTENCES["a"]), "ogg"))
        found = await self.reported(
            "bench", "run", "kept", self.folder / "desk/cases", "--engine", "built-in"
        )
        (answer,) = found["answers"]
        self.assertEqual((answer["file"], answer["said"]), ("ticket.ogg", SENTENCES["a"]))
        self.assertIn("ticket", answer["text"].lower())

    async def test_what_cannot_be_ranked_is_told(self):
        folder = self.recordings()
        err = await self.fails(
            "bench", "run", "x-bench", folder, "--engine", "far-ear", "--engine", "far-voice"
        )
        self.assertIn("far-ear: transcribe, far-voice: speak", err)
        err = await self.fails("bench", "run", "x-bench", folder, "--engine", "nobody")
        self.assertIn("nobody: not connected", err)
        empty = self.folder / "empty"
        empty.mkdir()
        err = await self.fails("bench", "run", "x-bench", empty, "--engine", "far-ear")
        self.assertIn("has no sound with a text beside it", err)
        await self.client.put("/api/benches/x-bench", json={"does": "speak"})
        err = await self.fails("bench", "run", "x-bench", folder, "--engine", "far-ear")
        self.assertIn("is of engines that speak en", err)
        err = await self.fails(
            "bench", "compare", "x-bench", "--engine", "far-ear", "--engine", "slow-ear"
        )
        self.assertIn("the bench x-bench has no answers of far-ear", err)
        code, _, err = await self.types("bench", "compare", "x-bench", "--engine", "far-ear")
        self.assertEqual(code, 2)
