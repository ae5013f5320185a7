"""Turns replayed on a draft and kept as cases; a draft that is not published while a case fails."""

import asyncio
import contextlib
import io
import json
import zipfile
from hashlib import sha256
from xml.etree import ElementTree

from sqlalchemy import update

from fond_echo.cli.main import main
from fond_echo.contract.reply import Reply
from fond_echo.core.audio.containers import encode
from fond_echo.demo.world import files_of
from fond_echo.documents.bundle import unpacked
from fond_echo.documents.case import read_cases
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.media import bytes_of, is_media
from fond_echo.store.records import Stage
from tests.sounds import speech
from tests.web.test_commands import DESK, Commands

UNSAFE = """\
assistant: harbour-desk
voice: tern
logic:
  timetable: {url: "http://127.0.0.1:1/logic", key: {secret: timetable-mark}}
routes:
  - route: fares
    examples: [How much is a ticket?]
    reply: {logic: timetable.fares}
fallback:
  reply: {text: I know about fares.}
"""


class Replays(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        await self.client.put(
            "/api/channels/desk", json={"kind": "http", "assistant": "harbour-desk"}
        )
        self.logic.answer = lambda asked: Reply(text=f"At ten to {asked.slots.get('island')}.")
        self.files = files_of("harbour-desk")
        self.desk = self.folder / "desk"
        for name, text in self.files.items():
            if is_media(name):
                (self.desk / name).parent.mkdir(parents=True, exist_ok=True)
                (self.desk / name).write_bytes(bytes_of(text))
            else:
                self.file(f"desk/{name}", text)

    async def ask(self, text="", sound=b""):
        if sound:
            asked = self.client.post(
                "/ask/desk", content=sound, headers={"Content-Type": "audio/ogg"}
            )
        else:
            asked = self.client.post("/ask/desk", json={"text": text})
        return (await self.working(asked)).json()["turn"]

    async def replay(self, turn, **given):
        reported = await self.client.post(f"/api/turns/{turn}/replays", json=given)
        self.assertEqual(reported.status_code, 200, reported.text)
        return reported.json()

    def changed(self, old, new):
        main = self.files["assistant.yaml"]
        self.assertIn(old, main)
        return {**self.files, "assistant.yaml": main.replace(old, new)}

    async def test_stages_scores_and_sound_then_and_now(self):
        turn = await self.ask("When is the next boat to Pell?")
        found = await self.replay(turn)
        self.assertEqual([each["stage"] for each in found["before"]["stages"]],
                         ["route", "answer", "deliver"])  # fmt: skip
        self.assertEqual([each["stage"] for each in found["after"]["stages"]], ["route", "answer"])
        self.assertEqual(found["after"]["voice"], "whimbrel")
        sound = encode(speech("How much is a ticket?", "curlew"), "ogg")
        turn = await self.ask(sound=sound)
        found = await self.replay(turn, begin="transcribe")
        self.assertEqual(found["after"]["stages"][0]["stage"], "transcribe")
        self.assertTrue(found["before"]["clip"])
        self.assertEqual(found["after"]["scores"][0]["route"], "fares")

    async def test_a_turn_of_another_version_says_so(self):
        turn = await self.ask("How much is a ticket?")
        async with self.database.writing() as session:
            await session.execute(
                update(Stage).where(Stage.name == "route").values(output={"way": "fares"})
            )
        for path in ("replays", "correction"):
            given = {} if path == "replays" else {"route": "fares"}
            found = await self.client.post(f"/api/turns/{turn}/{path}", json=given)
            problem = self.assert_problem(found, 409, "conflict")
            self.assertIn("wrote it down in another way", problem["detail"])

    async def test_on_the_same_files_nothing_is_different_and_nothing_is_asked(self):
        turn = await self.ask("When is the next boat to Pell?")
        asked = len(self.logic.requested)
        found = await self.replay(turn)
        self.assertEqual(found["changed"], [])
        self.assertEqual(found["after"]["written"], "At ten to Pell.")
        self.assertEqual(len(self.logic.requested), asked)

    async def test_what_one_line_changes(self):
        turn = await self.ask("How much is a ticket?")
        files = self.changed("A crossing is four pounds", "A crossing is five pounds")
        found = await self.replay(turn, files=files)
        self.assertEqual(found["changed"], ["spoken"])
        self.assertIn("five pounds", found["after"]["spoken"])
        other = await self.ask("When is the next boat to Brannick?")
        page = (await self.client.post(
            "/api/assistants/harbour-desk/replays", json={"files": files, "limit": 1}
        )).json()  # fmt: skip
        self.assertEqual([each["turn"] for each in page["items"]], [other])
        page = (await self.client.post(
            "/api/assistants/harbour-desk/replays", json={"files": files, "cursor": page["next"]}
        )).json()  # fmt: skip
        self.assertEqual([(e["turn"], e["changed"]) for e in page["items"]], [(turn, ["spoken"])])
        self.assertEqual(page["next"], "")

    async def test_from_the_answer_on_the_route_is_kept(self):
        turn = await self.ask("How much is a ticket?")
        files = self.changed("How much is a ticket?", "What does the laundry take?")
        files["assistant.yaml"] = files["assistant.yaml"].replace("four pounds", "five pounds")
        found = await self.replay(turn, files=files, begin="answer")
        self.assertEqual(found["after"]["route"], "fares")
        self.assertIn("five pounds", found["after"]["spoken"])
        self.assertEqual([each["stage"] for each in found["after"]["stages"]], ["answer"])
        files["assistant.yaml"] = files["assistant.yaml"].replace("route: fares", "route: prices")
        found = await self.replay(turn, files=files, begin="answer")
        self.assertIn("no route 'fares' here any more", found["after"]["error"])

    async def test_logic_that_may_not_be_asked_is_not_run_but_for_an_equal_question(self):
        files = self.changed("safe: true", "safe: false")
        other = await self.ask("How much is a ticket?")
        asked = len(self.logic.requested)
        form = (await self.replay(other, files={"assistant.yaml": UNSAFE}))["after"]
        self.assertIn("timetable.fares was not asked in a replay", form["not_run"], form)
        self.assertEqual((form["written"], len(self.logic.requested)), ("", asked))
        known = await self.ask("When is the next boat to Pell?")
        self.assertEqual((await self.replay(known, files=files))["after"]["not_run"], "")
        turn = await self.ask("Leave a word for the crew")
        self.assertEqual((await self.replay(turn))["changed"], [])

    async def test_sound_is_heard_again_where_that_is_wanted(self):
        sound = encode(speech("When is the next boat to Pell?", "curlew"), "ogg")
        turn = await self.ask(sound=sound)
        found = await self.replay(turn, begin="transcribe")
        self.assertEqual(found["after"]["text"], found["before"]["text"])
        self.assertGreater(found["after"]["milliseconds"], 1)

    async def test_erased_and_unknown_turns_and_revisions(self):
        turn = await self.ask("How much is a ticket?")
        path = f"/api/turns/{turn}/replays"
        self.assert_problem(
            await self.client.post(path, json={"revision": "abc"}), 404, "not-found"
        )
        self.assert_problem(
            await self.client.post("/api/turns/none/replays", json={}), 404, "not-found"
        )
        broken = self.changed("fallback:", "fallbak:")
        answer = await self.client.post(path, json={"files": broken})
        self.assert_problem(answer, 422, "file-invalid")
        contacts = (await self.client.get("/api/channels/desk/contacts")).json()["items"]
        gone = await self.client.delete(f"/api/channels/desk/contacts/{contacts[0]['id']}")
        self.assertLess(gone.status_code, 300, gone.text)
        self.assert_problem(await self.client.post(path, json={}), 409, "conflict")

    async def test_a_turn_is_kept_and_holds_a_draft_back(self):
        sound = encode(speech("When is the next boat to Pell?", "curlew"), "ogg")
        spoken, typed = await self.ask(sound=sound), await self.ask("How much is a ticket?")
        for turn, name in ((spoken, "next-boat"), (typed, "ticket")):
            await self.says("turn", "keep", turn, name, "--folder", self.desk)
        self.assertTrue((self.desk / "cases" / "next-boat.ogg").exists())
        report = self.folder / "report.xml"
        out = await self.says("assistant", "test", self.desk, "--junit", report)
        self.assertIn("2 cases, 0 failed", out)
        self.assertEqual(ElementTree.parse(report).getroot().attrib["tests"], "2")
        await self.says("assistant", "put", self.desk, "--publish")
        case = self.desk / "cases" / "ticket.yaml"
        case.write_text(case.read_text().replace("route: fares", "route: sailings-today"))
        code, out, _ = await self.types("assistant", "test", self.desk)
        self.assertEqual(code, 1)
        self.assertIn("route is 'fares', not 'sailings-today'", out)
        await self.says("assistant", "put", self.desk)
        err = await self.fails("assistant", "publish", "harbour-desk")
        self.assertIn("case ticket: route is 'fares'", err)
        await self.says("assistant", "publish", "harbour-desk", "--force", "--why", "known")
        past = json.loads(await self.says("assistant", "history", "harbour-desk", "--json"))
        self.assertEqual((past[0]["what"], past[0]["why"]), ("published", "known"))
        self.assertIn("case ticket", past[0]["forced"][0])
        kept = (await self.client.get("/api/assistants/harbour-desk/revisions")).json()
        draft, before = (each["cases"] for each in kept[:2])
        self.assertEqual((draft["passed"], draft["failed"]), (1, ["ticket"]))
        self.assertEqual((before["passed"], before["failed"]), (2, []))

    async def test_a_bundle_is_replayed_without_a_service_and_not_where_it_was_changed(self):
        sound = encode(speech("When is the next boat to Pell?", "curlew"), "ogg")
        turn, file = await self.ask(sound=sound), self.folder / "turn.zip"
        await self.says("turn", "bundle", turn, "-o", file)
        self.assertNotIn("contact", unpacked(file.read_bytes()).turn["case"])
        code, out, err = await asyncio.to_thread(self.alone, "turn", "open", file)
        self.assertEqual(code, 0, err)
        self.assertIn("timetable.next-sailing", out)
        code, out, err = await asyncio.to_thread(self.alone, "turn", "replay", file)
        self.assertEqual(code, 0, err)
        self.assertIn("Nothing would be different.", out)
        self.assertIn("At ten to Pell.", out)
        data = file.read_bytes()
        for wrong, why in (
            (data[:200], "not a bundle of a turn"),
            (b"PK" + bytes(99), "not a bundle of a turn"),
            (self.tampered(data), "was changed since it was made: assistant/assistant.yaml"),
            (self.made_of({"turn.json": b"[]"}), "turn.json holds no turn: all of it"),
            (self.made_of({"turn.json": b"{}"}), "turn.json holds no turn: case"),
            (self.made_of({"turn.json": b"\xff\xfe"}), "not a bundle of a turn"),
            (self.made_of({"turn.json": b"{}"}, files=[1]), "was changed since it was made"),
        ):
            file.write_bytes(wrong)
            code, _, err = await asyncio.to_thread(self.alone, "turn", "open", file)
            self.assertEqual(code, 1)
            self.assertIn(why, err)

    def tampered(self, data):
        out = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(data)) as before, zipfile.ZipFile(out, "w") as after:
            for name in before.namelist():
                part = before.read(name)
                after.writestr(name, part + b"#" if name == "assistant/assistant.yaml" else part)
        return out.getvalue()

    def made_of(self, parts, **changes):
        digests = {name: sha256(data).hexdigest() for name, data in parts.items()}
        manifest = {"format": "fond-echo turn 1", "files": digests, **changes}
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            for name, data in {**parts, "manifest.json": json.dumps(manifest).encode()}.items():
                archive.writestr(name, data)
        return out.getvalue()

    def alone(self, *arguments):
        """A command that asks no service."""
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main([str(each) for each in arguments])
        return code, out.getvalue(), err.getvalue()

    async def test_a_conversation_is_exported_and_said_again_to_a_draft(self):
        for text in ("How much is a ticket?", "When is the next boat to Pell?"):
            await self.ask(text)
        listed = json.loads(await self.says("conversation", "list", "--json"))
        file = self.folder / "talk.json"
        await self.says("conversation", "export", listed[0]["id"], "--redact", "-o", file)
        whole = json.loads(file.read_text())
        self.assertEqual((whole["contact"], len(whole["turns"])), ("", 2))
        self.assertEqual(whole["turns"][1]["answers"][0]["text"], "At ten to Pell.")
        self.file(
            "desk/assistant.yaml",
            self.changed("How much is a ticket?", "What is the fare?")["assistant.yaml"],
        )
        out = await self.says("conversation", "try", file, "harbour-desk", "--folder", self.desk)
        self.assertIn("2 turns said again", out)
        for content, why in (("[]", "is no exported"), ('{"format": "x", "turns": []}', "is no")):
            file.write_text(content)
            err = await self.fails("conversation", "try", file, "harbour-desk")
            self.assertIn(why, err)
        self.assertIn("no conversation", await self.fails("conversation", "export", "nonsense"))

    async def test_a_channel_is_renamed_with_all_that_came_in_over_it(self):
        turn = await self.ask("How much is a ticket?")
        out = await self.says("channel", "rename", "desk", "front-desk")
        self.assertIn("front-desk", out)
        self.assertEqual(
            (await self.client.get(f"/api/turns/{turn}")).json()["channel"], "front-desk"
        )
        answer = self.client.post("/ask/front-desk", json={"text": "How much is a ticket?"})
        self.assertEqual((await self.working(answer)).status_code, 200)
        gone = await self.client.post("/ask/desk", json={"text": "How much is a ticket?"})
        self.assertEqual(gone.status_code, 404)
        self.assertIn("already", await self.fails("channel", "rename", "front-desk", "skerry"))
        self.assertIn("no channel", await self.fails("channel", "rename", "desk", "other"))

    async def test_why_and_what_no_route_is_for(self):
        for text in ("Can I hire a canoe?", "hire a canoe please", "How much is a ticket?"):
            turn = await self.ask(text)
        why = await self.says("turn", "explain", turn)
        self.assertIn("Took fares (example): like 'How much is a ticket?'", why)
        first = (await self.client.get("/api/turns?limit=3")).json()["items"][-1]["id"]
        why = await self.says("turn", "explain", first)
        self.assertRegex(
            why, r"An example of [\w-]+, the nearest, needs 63% to be taken and had \d+%"
        )
        self.assertIn("“Can I hire a canoe?” would have led there", why)
        out = await self.says("assistant", "gaps", "harbour-desk")
        self.assertIn("2 turns fell to no route or were not answered, in 1 groups.", out)
        self.assertIn("canoe", out)

    async def test_a_conversation_is_loaded_and_gone_on_with(self):
        first = await self.ask("How much is a ticket?")
        await self.ask("When is the next boat to Pell?")
        conversation = (await self.client.get(f"/api/turns/{first}")).json()["conversation"]
        file = self.folder / "talk.json"
        await self.says("conversation", "export", conversation, "-o", file)
        out = await self.says(
            "conversation", "load", file, "--channel", "desk", "--contact", "maren"
        )
        self.assertIn("2 turns loaded into desk as maren.", out)
        self.logic.requested.clear()
        asked = self.client.post(
            "/ask/desk", json={"text": "When is the next boat to Brannick?", "contact": "maren"}
        )
        turn = (await self.working(asked)).json()["turn"]
        (requested,) = self.logic.requested
        said = [each.said for each in requested.conversation.recent]
        self.assertEqual(said, ["How much is a ticket?", "When is the next boat to Pell?"])
        self.assertEqual(requested.conversation.turns, 3)
        loaded = (await self.client.get(f"/api/turns/{turn}")).json()["conversation"]
        turns = (await self.client.get(f"/api/turns?conversation={loaded}")).json()["items"]
        self.assertEqual([each["number"] for each in turns], [3, 2, 1])
        self.assertIn("Adult", turns[2]["deliveries"][0]["text"])
        last = turns[1]["deliveries"][0]["text"]
        self.assertTrue(last)
        await self.says("conversation", "load", file, "--channel", "desk", "--contact", "senna")
        asked = self.client.post("/ask/desk", json={"text": "Say that again.", "contact": "senna"})
        self.assertEqual((await self.working(asked)).json()["answer"], last)
        again = ("conversation", "load", file, "--channel", "desk", "--contact", "maren")
        self.assertIn("is a contact of desk already", await self.fails(*again))
        again = ("conversation", "load", file, "--channel", "skerry", "--contact", "tobin")
        self.assertIn("skerry is a chat channel", await self.fails(*again))
        file.write_text('{"format": "fond-echo conversation 1", "turns": [{"said": 7}]}')
        again = ("conversation", "load", file, "--channel", "desk", "--contact", "tobin")
        self.assertIn("has a turn without a message", await self.fails(*again))

    async def test_from_misheard_to_corrected_in_one_go(self):
        turn = await self.ask("Can I hire a canoe?")
        before = (await self.client.get("/api/assistants/harbour-desk/draft")).json()
        err = await self.fails("turn", "correct", turn, "--route", "canoes")
        self.assertIn("there is no route 'canoes'", err)
        out = await self.says(
            "turn", "correct", turn, "--route", "lost-property", "--case", "canoe"
        )
        self.assertIn("on the draft it would be lost-property", out)
        after = (await self.client.get("/api/assistants/harbour-desk/draft")).json()
        main, was = after["files"]["assistant.yaml"], before["files"]["assistant.yaml"]
        added = set(main.splitlines()) - set(was.splitlines())
        self.assertEqual(added, {'      - "Can I hire a canoe?"'})
        self.assertEqual(len(main.splitlines()), len(was.splitlines()) + 1)
        self.assertIn("cases/canoe.yaml", after["files"])
        cases = (await self.client.post(
            "/api/assistants/harbour-desk/cases/runs", json={"revision": "draft"}
        )).json()["cases"]  # fmt: skip
        self.assertEqual([(each["case"], each["passed"]) for each in cases], [("canoe", True)])

    async def test_with_its_sound_and_nothing_where_that_leads_elsewhere(self):
        sound = encode(speech("Where did I put my umbrella?", "curlew"), "ogg")
        turn = await self.ask(sound=sound)
        out = await self.reported("turn", "correct", turn, "--route", "lost-property",
                                  "--example", "Where did I put my umbrella?", "--case", "umbrella")  # fmt: skip
        self.assertEqual(out["replay"]["after"]["route"], "lost-property")
        files = (await self.client.get("/api/assistants/harbour-desk/draft")).json()["files"]
        self.assertIn("cases/umbrella.ogg", files)
        revision = (await self.client.get("/api/assistants/harbour-desk/draft")).json()["revision"]
        code, out, _ = await self.types("turn", "correct", turn, "--route", "horn",
                                        "--example", "Ring the big bell at once")  # fmt: skip
        self.assertEqual(code, 1)
        self.assertIn("Nothing was changed", out)
        draft = (await self.client.get("/api/assistants/harbour-desk/draft")).json()
        self.assertEqual(draft["revision"], revision)

    async def test_it_goes_into_the_draft_without_a_folder(self):
        turn = await self.ask("How much is a ticket?")
        await self.says("turn", "keep", turn, "ticket")
        cases = (await self.client.post(
            "/api/assistants/harbour-desk/cases/runs", json={"revision": "draft"}
        )).json()["cases"]  # fmt: skip
        self.assertEqual([(each["case"], each["passed"]) for each in cases], [("ticket", True)])

    async def test_many_from_the_terminal_with_a_file_to_go_on_with(self):
        for text in ("How much is a ticket?", "When is the next boat to Pell?"):
            await self.ask(text)
        self.file(
            "desk/assistant.yaml", self.changed("four pounds", "five pounds")["assistant.yaml"]
        )
        kept = self.folder / "kept.jsonl"
        command = ("assistant", "replay", "harbour-desk", "--folder", self.desk, "--keep", kept)
        out = await self.says(*command)
        self.assertIn("2 turns replayed: 1 would be different.", out)
        self.assertEqual(len(kept.read_text().splitlines()), 2)
        again = await self.says(*command)
        self.assertIn("2 turns replayed: 1 would be different.", again)
        self.assertEqual(len(kept.read_text().splitlines()), 2)


class Publishing(Commands):
    async def put(self, text):
        self.file("desk/assistant.yaml", text)
        return await self.says("assistant", "put", self.folder / "desk", "--json")

    async def test_onto_a_revision_that_is_live_no_more(self):
        await self.put(DESK)
        first = json.loads(await self.says("assistant", "publish", "small-desk", "--json"))["live"]
        await self.put(DESK.replace("Four", "Five"))
        await self.says("assistant", "publish", "small-desk", "--if-revision", first)
        await self.put(DESK.replace("Four", "Six"))
        err = await self.fails("assistant", "publish", "small-desk", "--if-revision", first)
        self.assertIn("meanwhile", err)

    async def test_a_place_that_nobody_filled_in(self):
        text = DESK.replace("Good day.", '"Good day at [ADDRESS]."')
        await self.put(text)
        err = await self.fails("assistant", "publish", "small-desk")
        self.assertIn("'[ADDRESS]'", err)
        await self.put(text + 'allowed_placeholders: ["[ADDRESS]"]\n')
        await self.says("assistant", "publish", "small-desk")

    async def test_cases_that_are_wrong(self):
        for text, why in (
            ("case: one\nsaid: x\nexpect: {}\n", "expects something"),
            ("case: one\nexpect: {route: fares}\n", "needs said, sound or choice"),
            ("case: one\nsaid: x\nexpect: {contains: [x], lacks: [x]}\n", "both contain and lack"),
            ("case: one\nsound: gone.ogg\nexpect: {route: fares}\n", "there is no recording"),
            ('case: one\nsaid: x\nexpect: {matches: "("}\n', "is not a pattern of RFC 9485"),
        ):
            with self.subTest(why), self.assertRaisesRegex(InvalidFile, why):
                read_cases({"cases/a.yaml": text})
