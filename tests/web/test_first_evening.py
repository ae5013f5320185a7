"""Somebody on the first evening: from nothing to an assistant that answers, by questions alone."""

import os

import yaml

from tests.support.world import LocalSpeech
from tests.web.test_commands import Commands

SAYS = (
    "The rope works",                              # who it is
    "",                                            # what it says first
    "tern",                                        # the voice
    "# Ropes", "We splice ropes of hemp up to forty metres.", ".",     # what it knows
    "When are you open?", "From nine to five.",    # a question and its answer
    "",                                            # no more
    "both", "",                                    # how, and who may
)  # fmt: skip


class FirstEvening(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.service.synthesizer = LocalSpeech()
        before = os.getcwd()
        os.chdir(self.folder)
        self.addCleanup(os.chdir, before)

    async def answers(self, *lines, name="rope-works"):
        return await self.types("assistant", "new", name, "--guided", stdin="\n".join(lines) + "\n")

    async def test_an_assistant_by_questions_answers_on_its_page(self):
        code, out, err = await self.answers(*SAYS)
        self.assertEqual(code, 0, err + out)
        self.assertIn("asked     When are you open?\nanswer    From nine to five.", out)
        for name in ("rope-works-greeting.ogg", "rope-works-first-answer.ogg"):
            self.assertTrue((self.folder / name).read_bytes().startswith(b"OggS"))
        text = (self.folder / "rope-works" / "assistant.yaml").read_text()
        described = yaml.safe_load(text)
        self.assertEqual((described["voice"], described["answers_in"]), ("tern", "both"))
        self.assertIn("#", text)
        # Its page answers a stranger, from what was pasted too.
        place = out.split("Anybody can ask it here: ")[1].split()[0]
        at = place[place.index("/at/") :]
        asked = self.nobody.post(f"{at}/say", json={"text": "Do you splice hemp ropes?"})
        answer = await self.working(asked)
        self.assertIn("forty metres", answer.json()["answer"])
        self.assertIsNotNone(answer.json()["sound"])
        self.assertIn("fond-echo assistant put", out)

    async def test_a_folder_that_is_there_and_an_input_that_ends_change_nothing(self):
        code, _, err = await self.answers("The rope works", "", "tern", name="half-done")
        self.assertEqual(code, 1)
        self.assertIn("the input ended before all questions were answered", err)
        self.assertFalse((self.folder / "half-done").exists())
        self.assertEqual((await self.client.get("/api/assistants")).json(), [])
        code, _, err = await self.answers("The rope works", "", "nobody")
        self.assertEqual(code, 1)
        self.assertIn("'nobody' is none of", err)
        self.file("taken/assistant.yaml", "assistant: taken\n")
        code, _, err = await self.answers(*SAYS, name="taken")
        self.assertIn("has files in it", err)

    async def test_over_the_api_what_does_not_check_is_said(self):
        given = {"questions": [{"question": "When are you open?", "answer": "Always."},
                               {"question": "when are you open", "answer": "Never."}]}  # fmt: skip
        answer = await self.client.post("/api/assistants/rope-works/starter", json=given)
        self.assert_problem(answer, 422, "file-invalid")
        self.assertIn("is an example of", answer.text)
        given["questions"].pop()
        answer = await self.client.post("/api/assistants/rope-works/starter", json=given)
        self.assertIn("Hello, this is Rope works", answer.json()["files"]["assistant.yaml"])
        self.assertEqual((await self.client.get("/api/assistants")).json(), [])
