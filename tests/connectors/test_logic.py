"""Business logic: asked, answered in parts, asked again where nothing was answered, left alone."""

import base64
import unittest
import unittest.mock
from datetime import UTC, datetime

import httpx
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from fond_echo.connectors.breaker import Breaker, Breakers
from fond_echo.connectors.errors import LogicFailed
from fond_echo.connectors.logic import LogicCaller
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.contract.errors import BadSignature
from fond_echo.contract.logic import LogicContact, LogicConversation, LogicRequest, LogicTurn
from fond_echo.contract.reply import Transfer
from fond_echo.contract.signatures import signed_headers, verify
from fond_echo.documents.services import LogicService
from fond_echo.logic import Logic, NotAReply, RecordMessage, Reply

URL = "http://logic.test/ask"
NOW = datetime(2026, 12, 1, tzinfo=UTC)
VAULT = Vault({
    name: Secret(name, value, frozenset(("logic.test",)))
    for name, value in (("old", "old-secret"), ("new", "new-secret"))
})  # fmt: skip


def requested(number=1):
    return LogicRequest(
        action="boats", route="boats", assistant="test-desk", now=NOW,
        turn=LogicTurn(id=f"t{number}", text="boats?"), contact=LogicContact(id="c", channel="test-channel"),
        conversation=LogicConversation(id="k", turns=1),
    )  # fmt: skip


class Asking(unittest.IsolatedAsyncioTestCase):
    def setUp(self):
        self.breakers = Breakers()
        pauses = unittest.mock.patch("fond_echo.connectors.logic.PAUSES", (0.0, 0.0))
        pauses.start()
        self.addCleanup(pauses.stop)

    async def ask(self, transport, *, safe=False, number=1, **fields):
        client = httpx.AsyncClient(transport=transport)
        caller = LogicCaller(client, VAULT, self.breakers)
        service = LogicService(url=URL, **{"key": {"secret": "old"}, **fields})
        return [part.text async for part in caller.ask(service, requested(number), safe=safe)]

    async def test_who_is_not_told_the_id_of_a_question_is_put_down_before_it_is_asked(self):
        put_down = []

        async def once(question):
            put_down.append(question)

        client = httpx.AsyncClient(
            transport=httpx.MockTransport(lambda _: httpx.Response(200, json={"says": "Here."}))
        )
        shape = {"answer": "$.says", "key": None}
        for service, safe, count in (
            (LogicService(url=URL, request={"q": "{{ text }}"}, **shape), False, 1),
            (LogicService(url=URL, request={"q": "{{ text }}"}, **shape), True, 0),
            (LogicService(url=URL, request={"q": ["{{ text }}", "{{ call }}"]}, **shape), False, 0),
            (
                LogicService(
                    url=URL, request={"q": "?"}, headers={"Idempotency-Key": "{{ call }}"}, **shape
                ),
                False,
                0,
            ),
        ):
            put_down.clear()
            caller = LogicCaller(client, VAULT, self.breakers)
            asked = caller.ask(service, requested(1), safe=safe, once=once)
            self.assertEqual([part.text async for part in asked], ["Here."])
            self.assertEqual(len(put_down), count, service)

    def failing(self, *failures):
        """A transport that fails so often, then answers; how often it was asked."""
        waiting, count = list(failures), []

        def answer(request):
            count.append(request)
            if waiting:
                raise waiting.pop(0)
            return httpx.Response(200, json={"text": "Here."})

        return httpx.MockTransport(answer), count

    async def test_each_question_of_a_turn_has_an_id_of_its_own_and_keeps_it(self):
        logic, counted = Logic(["old-secret"]), []

        @logic.answers("price")
        async def price(asked):
            counted.append("price")
            return "The price is 10."

        @logic.answers("stock")
        async def stock(asked):
            counted.append(asked.slots.get("what"))
            return f"There are {len(counted)}."

        lost = [httpx.ReadError("gone")]
        transport = httpx.ASGITransport(logic)
        ids = []

        class Losing(httpx.AsyncBaseTransport):
            async def handle_async_request(self, request):
                ids.append(request.headers["webhook-id"])
                answer = await transport.handle_async_request(request)
                if lost:
                    raise lost.pop()
                return answer

        def questions():
            for action, what in (("price", "x"), ("stock", "x"), ("stock", "y"), ("stock", "y")):
                yield requested().model_copy(update={"action": action, "slots": {"what": what}})

        async def asked():
            caller = LogicCaller(httpx.AsyncClient(transport=Losing()), VAULT, self.breakers)
            service = LogicService(url=URL, key={"secret": "old"})
            return [
                (await anext(caller.ask(service, each, safe=True))).text for each in questions()
            ]

        answers = ["The price is 10.", "There are 2.", "There are 3.", "There are 4."]
        self.assertEqual(await asked(), answers)
        self.assertEqual(counted, ["price", "x", "y", "y"], "the lost answer was not made again")
        self.assertEqual(ids[0], ids[1])
        self.assertEqual(len(set(ids)), 4)
        self.assertEqual(await asked(), answers, "the turn is worked again: nothing is done twice")

    async def test_one_that_answers_in_pieces_is_heard_as_they_come(self):
        heard = []

        class Hears:
            async def piece(self, text):
                heard.append(text)

        lines = [
            'data: {"more": "High water "}',
            "",
            'data: {"more": "at noon."}',
            "",
            "data: over",
        ]

        def answer(request):
            return httpx.Response(200, text="\n".join([*lines, "", ""]))

        fields = {"request": {"words": "{{ text }}"}, "key": None,
                  "stream": {"as": "events", "piece": "$.more", "end": "over"}}  # fmt: skip
        client = httpx.AsyncClient(transport=httpx.MockTransport(answer))
        caller = LogicCaller(client, VAULT, self.breakers)
        service = LogicService(url=URL, **fields)
        parts = [part.text async for part in caller.ask(service, requested(), listener=Hears())]
        self.assertEqual((parts, heard), (["High water at noon."], ["High water ", "at noon."]))
        lines.pop()
        with self.assertRaisesRegex(LogicFailed, "stops before 'over'"):
            await self.ask(httpx.MockTransport(answer), **fields)

    async def test_one_that_answers_later_is_asked_until_it_is_done(self):
        states, asked = ["working", "working", "done"], []

        def answer(request):
            asked.append((request.method, request.url.path))
            if request.method == "POST":
                return httpx.Response(202, json={"task": "t 7"})
            return httpx.Response(200, json={"state": states.pop(0), "says": "At noon."})

        fields = {
            "request": {"words": "{{ text }}"}, "answer": "$.says", "key": None,
            "poll": {"take": {"task": "$.task"}, "get": "http://logic.test/tasks/{{ task }}",
                     "until": {"path": "$.state", "is": "done", "every": 0.01}},
        }  # fmt: skip
        self.assertEqual(await self.ask(httpx.MockTransport(answer), **fields), ["At noon."])
        self.assertEqual(asked, [("POST", "/ask")] + [("GET", "/tasks/t 7")] * 3)

    def test_what_its_own_shape_may_say(self):
        stream = {"as": "events", "piece": "$.more"}
        poll = {"get": URL, "until": {"path": "$.state", "is": "done"}}
        for fields, what in (
            ({"request": {}}, "request and answer go together"),
            ({"request": {}, "answer": "$.a", "stream": stream}, "no answer and no poll"),
            ({"key": {"secret": "old"}, "poll": poll}, "poll needs request"),
            ({"request": {}, "stream": {**stream, "as": "messages"}}, "events or lines"),
        ):
            with self.subTest(what), self.assertRaisesRegex(ValueError, what):
                LogicService(url=URL, **fields)

    async def test_a_service_that_knows_nothing_of_us_is_asked_in_its_own_shape(self):
        seen = []

        def answer(request):
            seen.append(request)
            return httpx.Response(200, json={"replies": [{"says": "At ten."}]})

        given = {
            "key": None, "request": {"question": "{{ text }}", "who": "{{ contact.id }}"},
            "answer": "$.replies[0].says", "headers": {"X-Key": {"secret": "old"}},
        }  # fmt: skip
        self.assertEqual(await self.ask(httpx.MockTransport(answer), **given), ["At ten."])
        self.assertEqual(seen[0].read(), b'{"question":"boats?","who":"c"}')
        self.assertEqual(seen[0].headers["x-key"], "old-secret")
        self.assertNotIn("webhook-signature", seen[0].headers)
        for what, reply in (
            ("nothing at", {"replies": []}),
            ("empty", {"replies": [{"says": " "}]}),
        ):
            odd = httpx.MockTransport(lambda request, reply=reply: httpx.Response(200, json=reply))
            with self.assertRaisesRegex(LogicFailed, what):
                await self.ask(odd, **given)
        for wrong in ({"key": None}, {"key": None, "request": {}}, {"headers": {"X": "y"}}):
            with self.assertRaises(ValueError):
                LogicService(url=URL, **{"key": {"secret": "old"}, **wrong})

    async def test_its_own_shape_may_give_more_than_words(self):
        gives = {
            "spoken": "$.aloud", "choices": "$.next[*].label", "remember": "$.facts",
            "then": "$.after", "to": "$.number", "file": "$.picture", "voice": "$.who",
            "rate": "$.pace", "route": "$.intent", "slots": "$.with",
        }  # fmt: skip
        shape = {"key": None, "request": {"q": "{{ text }}"}, "answer": "$.says", "gives": gives}

        async def reply(document):
            transport = httpx.MockTransport(lambda _: httpx.Response(200, json=document))
            caller = LogicCaller(httpx.AsyncClient(transport=transport), VAULT, self.breakers)
            service = LogicService(url=URL, **shape)
            return [part async for part in caller.ask(service, requested())]

        self.assertEqual(await reply({"says": "Ten."}), [Reply(text="Ten.")])
        [whole] = await reply({
            "says": "At ten.", "aloud": "At ten, I think.", "next": [{"label": "And the next?"}],
            "facts": {"pier": "pell"}, "after": "Transfer", "number": "+44 20 0000",
            "picture": "https://office.example/pier.png", "who": "wren", "pace": 1.2,
        })  # fmt: skip
        self.assertEqual(
            (whole.spoken, [each.label for each in whole.choices], whole.remember, whole.then,
             whole.attachments[0].url, whole.voice, whole.prosody.rate, whole.remember_days),
            ("At ten, I think.", ["And the next?"], {"pier": "pell"}, Transfer(to="+44 20 0000"),
             "https://office.example/pier.png", "wren", 1.2, 90),
        )  # fmt: skip
        led = [Reply(route="tides", slots={"pier": "pell"})]
        self.assertEqual(await reply({"intent": "tides", "with": {"pier": "pell"}}), led)
        for document, what in (
            ({}, "its answer is empty"),
            ({"says": "x", "facts": "all"}, "'all' at \\$.facts, not an object"),
            ({"says": "x", "after": "explode"}, "'explode' at \\$.after, not one of end"),
            ({"says": "x", "pace": 9}, "prosody.rate"),
            ({"says": "x", "after": "transfer"}, "then"),
        ):
            with self.subTest(what), self.assertRaisesRegex(LogicFailed, what):
                await reply(document)
        for wrong, what in (({"to": "$.number"}, "to goes with then"), ({"slots": "$.x"}, "route")):
            with self.assertRaisesRegex(ValueError, what):
                LogicService(url=URL, **{**shape, "gives": wrong})
        with self.assertRaisesRegex(ValueError, "comes late leads to no route"):
            LogicService(url=URL, late_seconds=60, **shape)
        with self.assertRaisesRegex(ValueError, "gives needs request"):
            LogicService(url=URL, key={"secret": "old"}, gives={"then": "$.after"})

    async def test_in_parts_and_remembered(self):
        logic, calls = Logic(secrets=["old-secret"]), []

        @logic.answers("boats")
        async def boats(question):
            calls.append(question)
            yield "One moment."
            yield Reply(text="At ten.")
            yield "And at noon."

        app = httpx.ASGITransport(logic)
        for _ in range(2):
            self.assertEqual(await self.ask(app), ["One moment.", "At ten.", "And at noon."])
        self.assertEqual(len(calls), 1, "a question that comes again is not asked again")
        self.assertEqual((await logic.ask("boats", "x")).text, "And at noon.")

    async def test_what_a_function_may_answer(self):
        logic = Logic(secrets=["old-secret"])
        answers = {"text": "At ten.", "then": {"kind": "record", "max_seconds": 30}}
        for number, (given, wanted) in enumerate((
            ("At ten.", Reply(text="At ten.")),
            (Reply(text="At ten."), Reply(text="At ten.")),
            (answers, Reply(text="At ten.", then=RecordMessage(max_seconds=30))),
        )):  # fmt: skip
            logic.answers("boats")(unittest.mock.AsyncMock(return_value=given))
            self.assertEqual(await logic.ask("boats"), wanted)
            found = await self.ask(httpx.ASGITransport(logic), number=number)
            self.assertEqual(found, ["At ten."])
        for given, words in (
            (None, "'boats' answered NoneType .return words, a Reply, or a dict"),
            ({"txt": "x"}, "'boats' answered no reply: txt: Extra inputs"),
            ({}, "'boats' answered no reply: Value error, a reply needs text"),
        ):
            logic.answers("boats")(unittest.mock.AsyncMock(return_value=given))
            with self.subTest(given), self.assertRaisesRegex(NotAReply, words):
                await logic.ask("boats")
            with self.assertRaisesRegex(LogicFailed, words), self.assertLogs("fond_echo.logic"):
                await self.ask(httpx.ASGITransport(logic), number=9)

    async def test_either_secret_while_one_is_changed(self):
        for live in (["old-secret"], ["new-secret"], ["new-secret", "old-secret"]):
            logic = Logic(secrets=live)
            logic.answers("boats")(unittest.mock.AsyncMock(return_value="Here."))
            found = await self.ask(
                httpx.ASGITransport(logic), key=[{"secret": "new"}, {"secret": "old"}]
            )
            self.assertEqual(found, ["Here."])

    async def test_asked_again_only_where_nothing_can_have_happened(self):
        refused, late = httpx.ConnectError("no route"), httpx.ReadTimeout("late")
        for failures, safe, count in (((refused, refused), False, 3), ((late,), True, 2)):
            transport, requests = self.failing(*failures)
            self.assertEqual(await self.ask(transport, safe=safe), ["Here."])
            self.assertEqual(len(requests), count)
            self.assertEqual(len({each.headers["webhook-id"] for each in requests}), 1)
        transport, requests = self.failing(late)
        with self.assertRaisesRegex(LogicFailed, "no answer within"):
            await self.ask(transport)
        self.assertEqual(len(requests), 1)

    async def test_what_is_no_answer(self):
        for answer, words in (
            (httpx.Response(500, text="oh"), "it answered 500: oh"),
            (httpx.Response(200, text="no json"), "not a reply"),
            (httpx.Response(200, json={"text": 7}), "text: Input should be a valid string"),
            (httpx.Response(200, json={"txt": "x"}), "not a reply"),
            (httpx.Response(200, content=b"x" * 1_100_000), "over 1,000,000 bytes"),
            (httpx.Response(200, content=b""), "not a reply"),
        ):
            self.breakers = Breakers()
            with self.subTest(words=words), self.assertRaisesRegex(LogicFailed, words):
                await self.ask(httpx.MockTransport(lambda _, answer=answer: answer))

    async def test_left_alone_after_failing_in_a_row(self):
        down = httpx.MockTransport(lambda _: httpx.Response(503))
        for _ in range(Breaker.most):
            with self.assertRaisesRegex(LogicFailed, "503"):
                await self.ask(down)
        transport, requests = self.failing()
        with self.assertRaisesRegex(LogicFailed, "paused"):
            await self.ask(transport)
        self.assertEqual(requests, [])
        self.breakers.of(URL).until = 0.0
        self.assertEqual(await self.ask(transport), ["Here."])
        self.assertEqual(self.breakers.of(URL).failures, 0)


class Signatures(unittest.TestCase):
    def test_ed25519(self):
        key = Ed25519PrivateKey.generate()
        private = "whsk_" + base64.b64encode(key.private_bytes_raw()).decode()
        public = "whpk_" + base64.b64encode(key.public_key().public_bytes_raw()).decode()
        headers = signed_headers(private, "m1", 1_000, b"{}")
        self.assertTrue(headers["webhook-signature"].startswith("v1a,"))
        self.assertEqual(verify([public], headers, b"{}", 1_000), "m1")
        for secrets, body in (([public], b"{ }"), (["whsec_c2VjcmV0"], b"{}")):
            with self.assertRaises(BadSignature):
                verify(secrets, headers, body, 1_000)
        shared = signed_headers("whsec_c2VjcmV0", "m1", 1_000, b"{}")
        with self.assertRaises(BadSignature):
            verify([public], shared, b"{}", 1_000)
        both = signed_headers(["whsec_c2VjcmV0", private], "m1", 1_000, b"{}")
        self.assertEqual(verify([public], both, b"{}", 1_000), "m1")
