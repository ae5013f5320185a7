"""How long bodies may be, and how often a wrong key may come."""

from fond_echo.web.bodies import FEW_BYTES, UNKNOWN_BYTES, max_bytes
from fond_echo.web.throttle import MAX_WRONG
from tests.support.web import WebTest


class Bodies(WebTest):
    async def test_who_shows_no_key_is_read_no_further_than_a_few_kilobytes(self):
        body = b" " * (UNKNOWN_BYTES + 1)
        for path in ("/api/assistants/x/draft", "/api/secrets/x"):
            answer = await self.nobody.put(path, content=body)
            self.assert_problem(answer, 413, "too-large")
        answer = await self.nobody.put("/api/secrets/x", content=b"{}")
        self.assertEqual(answer.status_code, 401)

    async def test_most_bodies_have_a_few_megabytes(self):
        answer = await self.client.put("/api/secrets/x", content=b" " * (FEW_BYTES + 1))
        self.assert_problem(answer, 413, "too-large")

    def test_what_brings_sound_or_files_has_more(self):
        known = [(b"authorization", b"Bearer x")]
        found = {
            path: max_bytes({"path": path, "headers": known}) // 2**20
            for path in ("/api/assistants/a/draft", "/api/speech/transcripts", "/api/clips/conversions", "/ask/desk",
                         "/webhooks/skerry", "/at/abc/say", "/api/keys")
        }  # fmt: skip
        self.assertEqual(list(found.values()), [32, 32, 32, 32, 20, 6, 4])


class WrongKeys(WebTest):
    async def test_after_a_few_an_address_waits_but_for_keys_that_were_right(self):
        self.assertEqual((await self.client.get("/api/channels")).status_code, 200)
        wrong = {"Authorization": "Bearer fe-wrong"}
        for _ in range(MAX_WRONG):
            answer = await self.nobody.get("/api/channels", headers=wrong)
            self.assertEqual(answer.status_code, 401)
        answer = await self.nobody.get("/api/channels", headers=wrong)
        self.assert_problem(answer, 429, "too-many")
        self.assertEqual((await self.client.get("/api/channels")).status_code, 200)
