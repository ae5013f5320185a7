"""Replays and cases of business logic by address alone: what it would be sent now, and what would
be taken of its answer now."""

import yaml

from fond_echo.connectors.machine import Exchange
from fond_echo.contract.reply import Reply
from fond_echo.documents.services import LogicService
from fond_echo.replays.same_question import differences, sent
from tests.connectors.test_logic import requested
from tests.web.test_commands import Commands

DESK = """\
assistant: harbour-desk
voice: tern
logic:
  office:
    url: http://office.test/question
    request: {words: "{{ text }}", who: "{{ contact.name }}", token: "{{ turn.id }}"}
    answer: "$.says"
fallback:
  reply: {logic: office.question}
"""
SAYS = {"says": "High water is at noon.", "more": "Bring a coat."}


class Office:
    """Business logic that answers the same to everything."""

    def __init__(self):
        self.exchanges, self.count = [], 0

    async def ask(self, service, request, *, safe=False, listener=None, once=None):
        self.count += 1
        self.exchanges.append(Exchange("POST", service.url, 200, received=dict(SAYS)))
        yield Reply(text=SAYS[service.answer.removeprefix("$.")])


class ByAddressAlone(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.logic = Office()
        await self.publish({"assistant.yaml": DESK})
        channel = {"kind": "http", "assistant": "harbour-desk"}
        await self.client.put("/api/channels/desk", json=channel)
        post = {"text": "When is high water?", "contact": "isla", "name": "Isla Quennell"}
        asked = await self.working(self.client.post("/ask/desk", json=post))
        self.turn = asked.json()["turn"]
        self.assertEqual(asked.json()["answer"], SAYS["says"])

    async def publish(self, files):
        await self.client.put("/api/assistants/harbour-desk/draft", json={"files": files})
        return await self.client.post("/api/assistants/harbour-desk/publish")

    async def replay(self, old, new):
        self.assertIn(old, DESK)
        given = {"files": {"assistant.yaml": DESK.replace(old, new)}}
        found = await self.client.post(f"/api/turns/{self.turn}/replays", json=given)
        self.assertEqual(found.status_code, 200, found.text)
        return found.json()

    async def test_what_would_be_sent_otherwise_is_seen(self):
        self.assertEqual((await self.replay("voice: tern", "voice: tern"))["changed"], [])
        for old, new in (
            ("{{ text }}", "{{ text | upper }}"),
            ("office.test/question", "office.test/other"),
            ("http://office", "http://harbour"),
            ('answer: "$.says"', 'answer: "$.says"\n    headers: {X-Desk: tern}'),
        ):
            found = await self.replay(old, new)
            self.assertIn("not_run", found["changed"], new)
            self.assertIn("no kept answer matches what it would be sent", found["after"]["not_run"])
        self.assertEqual((await self.replay('$.says"', '$.says"\n    timeout: 3'))["changed"], [])
        self.assertEqual(self.logic.count, 1, "it was not asked for any of them")

    async def test_what_would_be_taken_of_the_answer_now(self):
        found = await self.replay("$.says", "$.more")
        self.assertEqual(found["changed"], ["written", "spoken"])
        self.assertEqual(found["after"]["written"], "Bring a coat.")
        found = await self.replay("$.says", "$.words")
        self.assertIn("error", found["changed"])
        self.assertIn("nothing stands at $.words", found["after"]["error"])

    async def test_a_case_whose_answer_is_kept_for_another_question_fails(self):
        kept = await self.client.get(f"/api/turns/{self.turn}/case", params={"name": "tide"})
        case = yaml.safe_load(kept.json()["text"])
        self.assertEqual(case["logic"][0]["received"], SAYS)
        self.assertEqual(
            case["logic"][0]["sent"]["json"],
            {"words": "When is high water?", "who": "contact.name", "token": "turn.id"},
        )
        self.assertNotIn("Isla", kept.json()["text"])
        files = {"assistant.yaml": DESK, "cases/tide.yaml": kept.json()["text"]}
        self.assertEqual((await self.publish(files)).status_code, 200)
        for old, new, why in (
            ("{{ text }}", "{{ text | upper }}", "WHEN IS HIGH WATER?"),
            ("test/question", "test/other", "kept for another question"),
            ("$.says", "$.more", "the text lacks 'High water is at noon.'"),
            ("$.says", "$.words", "I cannot look that up just now"),
        ):
            changed = {**files, "assistant.yaml": DESK.replace(old, new)}
            refused = await self.publish(changed)
            self.assertEqual(refused.status_code, 409, refused.text)
            self.assertIn(why, refused.text)
        self.assertEqual(self.logic.count, 1)

    async def test_where_it_is_asked_whether_it_is_done_is_compared_too(self):
        poll = {"take": {"task": "$.task"}, "get": "http://office.test/{{ task }}",
                "until": {"path": "$.state", "is": "done"}}  # fmt: skip
        desk = yaml.safe_load(DESK)
        then = LogicService(**desk["logic"]["office"], poll=poll)
        now = then.model_copy(
            update={"poll": then.poll.model_copy(update={"get": "http://office.test/x/{{ task }}"})}
        )
        self.assertEqual(sent(then, requested(1)), sent(then, requested(1)))
        self.assertEqual(
            differences(sent(then, requested(1)), sent(now, requested(1)))[:5], "poll "
        )

    async def test_a_kept_answer_has_one_form(self):
        kept = (
            await self.client.get(f"/api/turns/{self.turn}/case", params={"name": "tide"})
        ).json()
        case = yaml.safe_load(kept["text"])
        case["logic"][0]["answers"] = [{"text": "At noon."}]
        text = yaml.safe_dump(case)
        files = {"assistant.yaml": DESK, "cases/tide.yaml": text}
        put = await self.client.put("/api/assistants/harbour-desk/draft", json={"files": files})
        checked = put.text + (await self.client.post("/api/assistants/harbour-desk/publish")).text
        self.assertIn("answers, or what was received in their place", checked)
