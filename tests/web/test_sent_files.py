"""Pictures and files that people send, on every channel, to business logic and to engines."""

import base64
from urllib.parse import urlsplit

import httpx

from tests.web.test_commands import Commands

PNG = base64.b64decode(
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=="
)
PDF = b"%PDF-1.4\n%a small one\n"
DESK = """\
assistant: harbour-desk
voice: tern
accepts_files: {route: damage, max_megabytes: 0.1}
logic:
  office: {url: "http://office.test/question", key: {secret: skerry-mark}}
routes:
  - route: damage
    examples: [Something on board is broken]
    reply: {logic: office.damage}
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: Four pounds.}
fallback:
  reply: {logic: office.question}
"""


class SentFiles(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        self.logic.answers = lambda *_: None
        await self.publish(DESK)
        channel = {"kind": "http", "assistant": "harbour-desk"}
        await self.client.put("/api/channels/desk", json=channel)

    async def publish(self, text):
        files = {"files": {"assistant.yaml": text}}
        answer = await self.client.put("/api/assistants/harbour-desk/draft", json=files)
        self.assertEqual(answer.status_code, 200, answer.text)
        await self.client.post("/api/assistants/harbour-desk/publish")

    async def sends(self, data, kind="image/png", name="rail.png", below=""):
        """Isla posts a paper in her room; gives the turn that answered."""
        transport = httpx.ASGITransport(self.network)
        async with httpx.AsyncClient(transport=transport, base_url="http://skerry.test") as net:
            place = f"/people/isla/paper?name={name}&below={below}"
            posted = await net.post(place, content=data, headers={"Content-Type": kind})
        await self.send({"posts": [posted.json()]})
        await self.work()
        return (await self.client.get("/api/turns", params={"limit": 1})).json()["items"][0]

    def told(self):
        """What business logic was told last."""
        return self.logic.requested[-1]

    async def test_a_picture_reaches_business_logic_with_what_stands_below_it(self):
        turn = await self.sends(PNG, below="The rail is broken")
        self.assertEqual((turn["text"], turn["arrived_as"]), ("The rail is broken", "text"))
        (file,) = self.told().turn.attachments
        self.assertEqual((file.media_type, file.size, file.name, file.caption),
                         ("image/png", len(PNG), "rail.png", "The rail is broken"))  # fmt: skip
        # The link gives the bytes without a key, to be shown as a picture and nothing else.
        link = urlsplit(file.url)
        got = await self.nobody.get(f"{link.path}?{link.query}")
        self.assertEqual((got.content, got.headers["content-type"]), (PNG, "image/png"))
        self.assertEqual((await self.nobody.get(f"{link.path}?{link.query}0")).status_code, 403)
        self.assertEqual(turn["files"][0]["clip"]["size"], len(PNG))
        shown = await self.says("turn", "show", turn["id"])
        self.assertIn(f"file      rail.png, image/png, {len(PNG)} bytes", shown)
        self.assertIn(f"rail.png: {len(PNG)} bytes", shown)
        # It is erased with its sender.
        (isla,) = (await self.client.get("/api/channels/skerry/contacts")).json()["items"]
        erased = await self.client.delete(f"/api/channels/skerry/contacts/{isla['id']}")
        self.assertLess(erased.status_code, 300, erased.text)
        self.assertEqual((await self.nobody.get(f"{link.path}?{link.query}")).status_code, 404)

    async def test_one_without_words_goes_to_its_route_or_to_the_fallback(self):
        turn = await self.sends(PNG)
        self.assertEqual((turn["arrived_as"], turn["route"]), ("file", "damage"))
        self.assertEqual(self.told().turn.text, "")
        await self.publish(DESK.replace("route: damage, ", ""))
        turn = await self.sends(PDF, "application/pdf", "ticket.pdf")
        self.assertEqual(turn["route"], "fallback")
        self.assertEqual(self.told().turn.attachments[0].media_type, "application/pdf")
        again = await self.client.post(f"/api/turns/{turn['id']}/replays", json={})
        self.assertEqual(again.status_code, 200, again.text)
        self.assertEqual(again.json()["changed"], [])

    async def test_what_is_not_taken_is_told_and_does_not_reach_business_logic(self):
        for data, kind, words in (
            (b"<html>" + b"x" * 100, "text/html", "cannot take files of that kind"),
            (b"<html>no picture</html>", "image/png", "cannot take files of that kind"),
            (PNG + b"\0" * 200_000, "image/png", "too big"),
        ):
            with self.subTest(kind=kind, words=words):
                turn = await self.sends(data, kind, "odd")
                self.assertIn(words, turn["deliveries"][0]["text"])
                self.assertTrue(turn["files"][0]["refused"])
                self.assertIn("odd: rejected", await self.says("turn", "show", turn["id"]))
        self.assertEqual(self.logic.requested, [])
        # With words beside it the words are answered.
        turn = await self.sends(b"no", "text/html", below="How much is a ticket?")
        self.assertEqual(turn["deliveries"][0]["text"], "Four pounds.")
        # An assistant that takes none says what it understands.
        await self.publish(DESK.replace("accepts_files: {route: damage, max_megabytes: 0.1}\n", ""))
        turn = await self.sends(PNG)
        self.assertIn("texts and voice notes", turn["deliveries"][0]["text"])

    async def test_over_http_as_json_as_a_form_and_from_the_terminal(self):
        content = "data:image/png;base64," + base64.b64encode(PNG).decode()
        post = {"text": "Something on board is broken", "files": [{"content": content}]}
        asked = await self.working(self.client.post("/ask/desk", json=post))
        self.assertEqual(asked.status_code, 200, asked.text)
        self.assertEqual(self.told().turn.attachments[0].media_type, "image/png")
        form = {"files": ("ticket.pdf", PDF, "application/pdf")}
        asked = await self.working(self.client.post("/ask/desk", files=form))
        self.assertEqual((asked.json()["route"], asked.json()["files"]), ("damage", ["ticket.pdf"]))
        path = self.folder / "rail.png"
        path.write_bytes(PNG)
        out = await self.working(self.says("talk", "desk", stdin=f"@{path}\n"))
        self.assertIn("route     damage", out)
        broken = {"files": [{"content": "data:image/png;base64,%%%"}]}
        self.assert_problem(await self.client.post("/ask/desk", json=broken), 422, "nothing-asked")

    async def test_files_that_would_reach_nobody_are_an_error(self):
        silent = DESK.replace("{logic: office.damage}", "{text: Thank you.}").replace(
            "{logic: office.question}", "{text: I know about fares.}"
        )
        for text, what in (
            (silent.replace("route: damage, ", ""), "files reach nobody"),
            (DESK.replace("route: damage,", "route: damages,"), "no route 'damages'"),
            (DESK.replace("max_megabytes: 0.1", "types: [pictures]"), "image/*"),
        ):
            files = {"files": {"assistant.yaml": text}}
            answer = await self.client.put("/api/assistants/harbour-desk/draft", json=files)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(what, answer.text)
