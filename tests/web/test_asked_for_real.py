"""Tries and replays that ask engines for real: what they answer, what it costs, and no more than it
may cost."""

from __future__ import annotations

from sqlalchemy import select

from fond_echo.engines.connected import ConnectedEngines
from fond_echo.store.access_records import EngineDay
from fond_echo.store.records import Stage, Turn
from fond_echo.web.asked_for_real import COUNTED_AS
from tests.support.engines import BASE, ONE_ROUTE, WORD, Gannet, engine_file
from tests.support.world import PlainDecoder
from tests.web.test_commands import Commands

DESK = f"""\
assistant: harbour-desk
voice: tern
brief: You are the harbour desk.
{ONE_ROUTE}    functions:
      timetable.next-sailing:
        about: when the next boat to an island sails
        confirm: Shall I ask?
        arguments: {{island: {{about: where to, one_of: [Pell, Brannick]}}}}
"""
BOAT = "By the way, my boat is called Seagull"


class AskedForReal(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        installation = self.service.installation
        installation.connected = ConnectedEngines(Gannet().client, PlainDecoder())
        secret = {"value": WORD, "hosts": ["gannet.test"]}
        await self.client.put("/api/secrets/gannet-pass", json=secret)
        given = {"connector": engine_file("harbour-mind"), "values": {"base": BASE}}
        await self.client.put("/api/engines/harbour-mind", json=given)
        files = {"files": {"assistant.yaml": DESK}}
        put = await self.client.put("/api/assistants/harbour-desk/draft", json=files)
        self.assertEqual(put.status_code, 200, put.text)

    async def tried(self, text, **more):
        given = {"text": text, **more}
        return await self.client.post("/api/assistants/harbour-desk/try", json=given)

    async def spent(self):
        async with self.database.reading() as session:
            wanted = select(EngineDay).where(EngineDay.assistant == COUNTED_AS)
            return (await session.execute(wanted)).scalars().all()

    async def test_without_asking_the_engine_is_not_asked_and_it_says_so(self):
        found = (await self.tried(BOAT)).json()
        self.assertIn("--ask", found["not_run"])
        self.assertEqual(await self.spent(), [])

    async def test_asked_it_answers_as_live_and_is_counted_apart(self):
        found = (await self.tried(BOAT, ask=True)).json()
        self.assertEqual(found["not_run"], "")
        self.assertIn("your boat is Seagull", found["replies"][0]["text"])
        self.assertEqual([each["engine"] for each in found["asked"]], ["harbour-mind"])
        self.assertGreater(found["asked"][0]["cost"], 0)
        (day,) = await self.spent()
        self.assertEqual((day.engine, day.asked), ("harbour-mind", 1))

    async def test_a_function_that_asks_first_asks_and_is_not_called(self):
        first = (await self.tried("when does the next boat to Pell sail?", ask=True)).json()
        self.assertEqual(first["replies"][0]["text"], "Shall I ask?")
        then = (await self.tried("yes", ask=True, state=first["state"])).json()
        whys = [each["why"] for each in then["asked"] if each["kind"] == "function"]
        self.assertEqual(whys, ["it changes something, and this is a try"])

    async def test_it_costs_no_more_than_it_may(self):
        self.service.settings.try_budget = 0.0
        self.assert_problem(await self.tried(BOAT, ask=True), 409, "conflict")
        self.assertEqual((await self.tried(BOAT)).status_code, 200)
        self.service.settings.try_budget = 1.0

    async def test_wordings_are_proposed_by_frames_or_by_the_engine(self):
        path = "/api/assistants/harbour-desk/widen"
        found = (await self.client.post(path, json={"route": "fares"})).json()
        self.assertIn("what does a ticket cost", [each["example"] for each in found["proposals"]])
        self.assertEqual((found["asked"], await self.spent()), ([], []))
        found = (await self.client.post(path, json={"ask": True})).json()
        self.assertEqual({each["by"] for each in found["proposals"]}, {"engine"})
        self.assertEqual([each["engine"] for each in found["asked"]], ["harbour-mind"])
        self.assertEqual(len(await self.spent()), 1)
        wrong = await self.client.post(path, json={"route": "fears"})
        self.assert_problem(wrong, 404, "not-found")

    async def test_a_replay_shows_the_answer_of_then_and_of_now(self):
        await self.client.post("/api/assistants/harbour-desk/publish")
        channel = {"kind": "http", "assistant": "harbour-desk"}
        await self.client.put("/api/channels/desk", json=channel)
        post = {"text": BOAT, "contact": "isla", "name": "Isla Quennell"}
        asked = await self.working(self.client.post("/ask/desk", json=post))
        turn = asked.json()["turn"]
        files = {"assistant.yaml": DESK.replace("the harbour desk", "the old harbour desk")}
        given = {"files": files, "ask": False}
        found = (await self.client.post(f"/api/turns/{turn}/replays", json=given)).json()
        self.assertIn("--ask", found["after"]["not_run"])
        found = (
            await self.client.post(f"/api/turns/{turn}/replays", json={**given, "ask": True})
        ).json()
        # The worker of this test has no engines: then an apology went out, now there is an answer.
        self.assertIn("went wrong", found["before"]["written"])
        self.assertIn("Seagull", found["after"]["written"])
        self.assertEqual(found["after"]["asked"][0]["engine"], "harbour-mind")
        page = {"files": files, "ask": True, "limit": 5}
        many = await self.client.post("/api/assistants/harbour-desk/replays", json=page)
        self.assertEqual(len(many.json()["items"]), 1)
        (count,) = many.json()["verdicts"]
        self.assertEqual((count["verdict"], count["before"], count["after"]), ("answers", 0, 1))

    async def test_cases_keep_what_the_engine_gave_or_ask_it_anew(self):
        case = (
            f"case: boat\nsaid: {BOAT}\nengine: [{{text: Your boat is the Gannet.}}]\n"
            "expect: {contains: [Seagull], calls: [none], words_at_most: 30}\n"
        )
        files = {"files": {"assistant.yaml": DESK, "cases/boat.yaml": case}}
        await self.client.put("/api/assistants/harbour-desk/draft", json=files)
        runs = "/api/assistants/harbour-desk/cases/runs"
        (kept,) = (await self.client.post(runs, json={})).json()["cases"]
        self.assertEqual(kept["failures"], ["the text lacks 'Seagull': 'Your boat is the Gannet.'"])
        self.assertEqual(await self.spent(), [])
        (asked,) = (await self.client.post(runs, json={"ask": True})).json()["cases"]
        self.assertEqual(asked["failures"], [])
        self.assertEqual(len(await self.spent()), 1)
        revisions = "/api/assistants/harbour-desk/revisions"
        draft = (await self.client.get(revisions)).json()[0]
        # What an engine answers anew is no fact about the revision.
        self.assertEqual(draft["cases"]["failed"], ["boat"])


class Judged(Commands):
    async def test_turns_are_found_by_how_their_answer_was_judged(self):
        files = {"files": {"assistant.yaml": DESK}}
        await self.client.put("/api/assistants/harbour-desk/draft", json=files)
        await self.client.post("/api/assistants/harbour-desk/publish")
        channel = {"kind": "http", "assistant": "harbour-desk"}
        await self.client.put("/api/channels/desk", json=channel)
        turns = []
        for text in ("may I bring sheep along", "may I bring a sheep along", "is there tea"):
            post = {"text": text, "contact": "isla", "name": "Isla Quennell"}
            asked = await self.working(self.client.post("/ask/desk", json=post))
            turns.append(asked.json()["turn"])
        async with self.database.writing() as session:
            for turn, kind in zip(turns, ("evades", "unsupported", "answers"), strict=True):
                run = (await session.get_one(Turn, turn)).run_id
                wanted = select(Stage).where(Stage.run_id == run, Stage.name == "answer")
                stage = (await session.execute(wanted)).scalars().all()[-1]
                parts = [{"text": f"It is {kind}.\n\n(handbook)"}]
                stage.output = {"parts": parts, "verdict": {"kind": kind, "reason": "made up"}}
                stage.outcome = "done"
        for kind, turn in (("evades", turns[0]), ("unsupported", turns[1])):
            page = (await self.client.get("/api/turns", params={"verdict": kind})).json()
            self.assertEqual([each["id"] for each in page["items"]], [turn])
        wrong = await self.client.get("/api/turns", params={"verdict": "nice"})
        self.assertEqual(wrong.status_code, 422)
        case = await self.client.get(f"/api/turns/{turns[0]}/case", params={"name": "sheep"})
        self.assertIn('engine:\n- text: "It is evades.\\n\\n(handbook)"', case.json()["text"])
        (gap,) = (await self.client.get("/api/assistants/harbour-desk/gaps")).json()
        self.assertEqual(gap["verdicts"], {"evades": 1, "unsupported": 1})
