import unittest
from uuid import UUID

from pydantic import ValidationError
from standardwebhooks import Webhook

from fond_echo.contract.base import new_id
from fond_echo.contract.errors import BadSignature
from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.reply import Ask, Reply
from fond_echo.contract.signatures import signature, signed_headers, verify

SECRET = "whsec_" + "MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"


class Signatures(unittest.TestCase):
    def test_the_open_implementation_accepts_ours(self):
        import time

        now = int(time.time())
        body = b'{"text": "boat"}'
        headers = signed_headers(SECRET, "msg_1", now, body)
        self.assertEqual(Webhook(SECRET).verify(body, headers), {"text": "boat"})

    def test_either_of_two_live_secrets(self):
        headers = signed_headers("second", "m", 1_000, b"x")
        self.assertEqual(verify(["first", "second"], headers, b"x", 1_100), "m")

    def test_what_is_refused(self):
        good = signed_headers("s", "m", 1_000, b"x")
        cases = (
            (["other"], good, b"x", 1_000, "no signature fits"),
            (["s"], good, b"y", 1_000, "no signature fits"),
            (["s"], {**good, "webhook-id": "n"}, b"x", 1_000, "no signature fits"),
            (["s"], good, b"x", 1_301, "ago"),
            (["s"], good, b"x", 699, "ago"),
            (["s"], {**good, "webhook-timestamp": "soon"}, b"x", 1_000, "number of seconds"),
            (["s"], {}, b"x", 1_000, "webhook-id is missing"),
            ([], good, b"x", 1_000, "no signature fits"),
        )
        for secrets, headers, body, now, words in cases:
            with self.assertRaisesRegex(BadSignature, words):
                verify(secrets, headers, body, now)
        with self.assertRaisesRegex(BadSignature, "base64"):
            signature("whsec_!!", "m", 1, b"")


class Shapes(unittest.TestCase):
    def test_a_reply_says_something_and_nothing_unknown(self):
        with self.assertRaisesRegex(ValidationError, "needs text"):
            Reply()
        with self.assertRaisesRegex(ValidationError, "txt"):
            Reply.model_validate({"txt": "hello"})

    def test_choices_may_be_plain_words(self):
        reply = Reply.model_validate(
            {"text": "Where to?", "choices": ["Pell", {"label": "Ossel", "value": "o"}]}
        )
        self.assertEqual(
            [(c.label, c.value) for c in reply.choices], [("Pell", "Pell"), ("Ossel", "o")]
        )

    def test_what_comes_then(self):
        reply = Reply.model_validate({"text": "Which?", "then": {"kind": "ask", "slot": "island"}})
        self.assertEqual(reply.then, Ask(slot="island"))
        with self.assertRaises(ValidationError):
            Reply.model_validate({"text": "x", "then": {"kind": "explode"}})

    def test_a_logic_request_survives_the_wire(self):
        request = LogicRequest.model_validate(
            {
                "action": "next-sailing",
                "route": "next-sailing",
                "assistant": "harbour-desk",
                "now": "2026-11-25T09:00:00+00:00",
                "turn": {"id": "t", "text": "next boat"},
                "contact": {"id": "c", "channel": "skerry"},
                "conversation": {"id": "v", "turns": 1},
            }
        )
        self.assertEqual(LogicRequest.model_validate_json(request.model_dump_json()), request)

    def test_ids_are_ordered_version_7(self):
        ids = [new_id() for _ in range(50)]
        self.assertEqual(len(set(ids)), 50)
        self.assertTrue(all(UUID(each).version == 7 for each in ids))
        self.assertLessEqual(ids[0][:13], ids[-1][:13])
