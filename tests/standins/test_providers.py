"""The provider that stands in: it hears what nobody told it, answers by rules, and fails on demand."""

import asyncio
import unittest

import httpx

from fond_echo.core.audio.containers import decode, encode
from fond_echo.standins.faults import Faults
from fond_echo.standins.providers.answering import Question, telling, think
from tests.support.engines import BASE, WORD, Gannet, said

HEADERS = {"Authorization": f"Bearer {WORD}"}


def question(words, **fields):
    plain = {
        "brief": "",
        "passages": [],
        "earlier": [],
        "facts": {},
        "functions": [],
        "results": [],
        "most": 500,
    }
    return Question(words, **{**plain, **fields})


class OverHttp(unittest.IsolatedAsyncioTestCase):
    def setUp(self):
        self.gannet = Gannet()
        self.client = self.gannet.client

    async def post(self, path, **fields):
        return await self.client.post(f"{BASE}{path}", headers=HEADERS, **fields)

    async def test_who_does_not_say_the_word_gets_nothing(self):
        for path in ("/hearing", "/tasks", "/utterance", "/utterance/packed", "/thoughts"):
            answer = await self.client.post(f"{BASE}{path}", json={"words": "x"})
            self.assertEqual(answer.status_code, 401, path)

    async def test_a_task_is_worked_on_and_then_done(self):
        data = encode(said("How much is a ticket?"), "mp3")
        name = (await self.post("/tasks", content=data)).json()["task"]
        stages = []
        for _ in range(60):
            found = (await self.client.get(f"{BASE}/tasks/{name}", headers=HEADERS)).json()
            stages.append(found["stage"])
            if found["stage"] == "finished":
                break
            await asyncio.sleep(0.05)
        self.assertEqual((stages[0], stages[-1]), ("working", "finished"))
        self.assertIn("ticket", found["outcome"]["phrase"])
        name = (await self.post("/tasks", content=b"no sound")).json()["task"]
        await asyncio.sleep(0.6)
        found = (await self.client.get(f"{BASE}/tasks/{name}", headers=HEADERS)).json()
        self.assertEqual(found["stage"], "gave-up")
        missing = await self.client.get(f"{BASE}/tasks/nothing", headers=HEADERS)
        self.assertEqual(missing.status_code, 404)

    async def test_what_is_no_sound_is_refused(self):
        answer = await self.post("/hearing", files={"take": ("x", b"no sound")})
        self.assertEqual(answer.status_code, 415)

    async def test_speech_with_each_timbre_is_another(self):
        sounds = [
            (await self.post("/utterance", json={"words": "Good day.", "timbre": each})).content
            for each in ("deep", "bright")
        ]
        self.assertNotEqual(*sounds)
        self.assertGreater(decode(sounds[0]).clip.seconds, 0.4)

    async def test_each_fault_so_many_times(self):
        for fault, status in (
            ("busy", 429),
            ("broken", 500),
            ("garbage", 200),
            ("empty", 200),
            ("wrong-type", 200),
        ):
            await self.gannet.fault("/thoughts", fault, 1)
            first = await self.post("/thoughts", json={"words": "Why?"})
            self.assertEqual(first.status_code, status, fault)
            again = await self.post("/thoughts", json={"words": "Why?"})
            self.assertEqual(again.json()["thought"]["says"], "I do not know that.", fault)
        await self.gannet.fault("/thoughts", "truncated", 1)
        answer = await self.post("/thoughts", json={"words": "Why?"})
        with self.assertRaises(ValueError):
            answer.json()

    async def test_what_was_asked_can_be_seen(self):
        await self.post("/thoughts", json={"words": "Why?"})
        self.assertEqual((await self.client.get(f"{BASE}/")).json()["asked"], ["thoughts"])


class Switched(unittest.TestCase):
    def test_counted_down_for_ever_and_off(self):
        faults = Faults()
        faults.set("/a", "broken", 2)
        self.assertEqual([faults.next("/a/b") for _ in range(3)], ["broken", "broken", None])
        faults.set("/a", "slow")
        self.assertEqual([faults.next("/a") for _ in range(3)], ["slow"] * 3)
        self.assertIsNone(faults.next("/b"))
        faults.set("/a", None)
        self.assertIsNone(faults.next("/a"))


class Thinking(unittest.TestCase):
    def test_words_that_tell(self):
        self.assertEqual(telling("When do the boats sail to Pell?"), ["boat", "sail", "pell"])

    def test_nothing_is_made_up(self):
        passages = [{"source": "Tea", "text": "Tea is served on deck."}]
        found = think(question("How deep is the sea?", passages=passages))
        self.assertEqual((found["says"], found["because"]), ("I do not know that.", []))

    def test_two_sentences_where_the_brief_says_so(self):
        passages = [{"source": "Tea", "text": "Tea is hot. Tea is strong. Tea is free."}]
        found = think(question("Tea?", passages=passages, brief="Two sentences.", results=[
            {"result": "One. Two. Three."}]))  # fmt: skip
        self.assertEqual(found["says"], "One. Two.")

    def test_it_stops_in_the_middle_where_it_must_and_says_so(self):
        found = think(question("x", results=[{"result": "a long answer " * 10}], most=20))
        self.assertEqual((len(found["says"]), found["ends"]), (20, "length"))

    def test_a_function_needs_all_that_it_needs(self):
        schema = {
            "type": "object",
            "required": ["places"],
            "properties": {"places": {"type": "number"}},
        }
        functions = [{"name": "desk.book", "about": "book a bicycle place", "schema": schema}]
        found = think(question("Book a bicycle place for 3", functions=functions))
        self.assertEqual(found["wants"][0]["with"], {"places": 3})
        self.assertIn("says", think(question("Book a bicycle place", functions=functions)))


class Slow(unittest.IsolatedAsyncioTestCase):
    async def test_slow_is_later_than_anybody_waits(self):
        gannet = Gannet()
        await gannet.fault("/thoughts", "slow")
        with self.assertRaises((httpx.TimeoutException, TimeoutError)):
            async with asyncio.timeout(0.3):
                await gannet.client.post(f"{BASE}/thoughts", json={"words": "x"}, headers=HEADERS)


if __name__ == "__main__":
    unittest.main()
