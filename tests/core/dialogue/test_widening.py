"""Other wordings of examples: by everyday frames, and held against the other routes."""

from __future__ import annotations

import contextlib
import io
import tempfile
import unittest
from pathlib import Path

from fond_echo.cli.main import main
from fond_echo.core.dialogue.routing import Route, Router
from fond_echo.core.dialogue.widening import framed, listed, proposals
from fond_echo.core.language.registry import language
from fond_echo.documents.reading import read_assistant

DESK = """\
assistant: mill-desk
routes:
  - route: tickets
    # what people pay
    examples: [How much is a ticket?]
    reply: {text: Six pounds.}
  - route: guide
    examples: [I need a guide, can I have a guide]
    reply: {text: Gladly.}
fallback: {reply: {text: Hm.}}
"""


class Widening(unittest.TestCase):
    def test_a_frame_gives_other_ways_to_say_the_same(self) -> None:
        found = framed(["How much is a ticket?", "I need a guide"], language())
        self.assertEqual(found[:2], ["what does a ticket cost", "can I have a guide"])
        self.assertEqual(framed(["Hm, well"], language()), [])

    def test_what_is_known_or_another_route_s_is_not_proposed_as_good(self) -> None:
        router = Router(
            [
                Route("tickets", ("How much is a ticket?",)),
                Route("guide", ("I need a guide", "show me round")),
            ]
        )
        wordings = [
            "how much is a ticket",
            "what do tickets cost",
            "please show me round",
            "any entry fee",
        ]
        found = proposals("tickets", wordings, router, 5)
        self.assertEqual(
            [(each.example, each.near) for each in found],
            [
                ("what do tickets cost", ""),
                ("any entry fee", ""),
                ("please show me round", "guide"),
            ],
        )
        self.assertEqual(len(proposals("tickets", wordings, router, 1)), 1)

    def test_a_list_of_an_engine_is_read_with_its_marks(self) -> None:
        self.assertEqual(
            listed("Sure:\n\n1. What is it?\n- “How much?”\n* " + "x" * 300),
            ["Sure:", "What is it?", "How much?"],
        )


class Accepted(unittest.TestCase):
    def widen(self, folder: Path, *options: str) -> tuple[int, str]:
        said = io.StringIO()
        with contextlib.redirect_stdout(said), contextlib.redirect_stderr(said):
            code = main(["assistant", "widen", str(folder), *options])
        return code, said.getvalue()

    def test_what_is_approved_stands_apart_in_the_file_and_counts_as_an_example(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            file = Path(name) / "assistant.yaml"
            file.write_text(DESK)
            code, said = self.widen(Path(name), "--route", "tickets")
            self.assertEqual((code, file.read_text()), (0, DESK), said)
            code, said = self.widen(Path(name), "--route", "tickets", "--accept", "1,3")
            self.assertEqual(code, 0, said)
            assistant = read_assistant({"assistant.yaml": file.read_text()})
            self.assertIn("# what people pay", file.read_text())
            self.assertEqual(len(assistant.routes[0].widened), 2)
            self.assertIn(assistant.routes[0].widened[0], assistant.router().examples)
            for wrong in ("0", "7-99", "first"):
                code, said = self.widen(Path(name), "--accept", wrong)
                self.assertNotEqual(code, 0)
                self.assertIn("proposals 1 to", said)
