"""Replies that are heard again after they went out."""

import dataclasses

from sqlalchemy import update

from fond_echo.contract.turn import Heard
from fond_echo.store.records import Stage
from tests.web.test_commands import Commands

DESK = """\
assistant: back-desk
voice: tern
answers_in: voice
verify_speech: true
routes:
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: "The boat to Brannick is four pounds."}
fallback:
  reply: {text: I know about fares.}
"""


class Mishears:
    """Hears another word for Brannick."""

    asked = 0

    async def transcribe(self, clip, expected, *, language, long):
        Mishears.asked += 1
        assert long and not expected.phrases
        return Heard(spoken="the boat to branch is four pounds", written="", confidence=0.9,
                     source="dictation")  # fmt: skip


class DoubtfulWords(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        Mishears.asked = 0
        await self.publish(DESK)
        await self.client.put("/api/channels/desk", json={"kind": "http", "assistant": "back-desk"})

    async def publish(self, text):
        given = {"files": {"assistant.yaml": text}}
        await self.client.put("/api/assistants/back-desk/draft", json=given)
        await self.client.post("/api/assistants/back-desk/publish")

    async def needs(self, channel, now, assistant=None):
        found = await super().needs(channel, now, assistant)
        return dataclasses.replace(found, hears_back=Mishears())

    async def ask(self):
        asked = self.client.post("/ask/desk", json={"text": "How much is a ticket?"})
        return (await self.working(asked)).json()["turn"]

    async def listed(self):
        found = await self.client.get("/api/assistants/back-desk/mispronounced")
        self.assertEqual(found.status_code, 200, found.text)
        return found.json()

    async def test_a_word_that_does_not_come_back_is_told_with_an_entry(self):
        turns = [await self.ask(), await self.ask()]
        (found,) = await self.listed()
        self.assertEqual((found["word"], found["said"], found["missed"]), ("brannick", 2, 2))
        self.assertEqual((found["heard"], set(found["turns"])), (["branch"], set(turns)))
        self.assertIn("<grapheme>brannick</grapheme><phoneme>bɹˈænɪk</phoneme>", found["lexeme"])
        stages = (await self.client.get(f"/api/turns/{turns[0]}")).json()["runs"][0]["stages"]
        spoken = next(each["output"] for each in stages if each["name"] == "speak")
        self.assertEqual(spoken["heard_as"]["doubts"], [{"word": "brannick", "heard": "branch"}])

    async def test_in_the_terminal(self):
        await self.ask()
        out = await self.says("assistant", "mispronounced", "back-desk")
        self.assertRegex(out, r"brannick +1 of 1 +branch")
        out = await self.says("assistant", "mispronounced", "back-desk", "--lexicon")
        self.assertIn('alphabet="ipa"', out)
        err = await self.fails("assistant", "mispronounced", "no-desk")
        self.assertIn("there is no assistant", err)

    async def test_only_where_the_assistant_wants_to_know(self):
        await self.publish(DESK.replace("verify_speech: true\n", ""))
        await self.ask()
        self.assertEqual((Mishears.asked, await self.listed()), (0, []))

    async def test_what_was_erased_is_told_of_no_more(self):
        await self.ask()
        async with self.database.writing() as session:
            await session.execute(update(Stage).values(erased_at=Stage.started_at, output={}))
        self.assertEqual(await self.listed(), [])
