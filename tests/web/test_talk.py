"""A talk from the terminal."""

import asyncio
import contextlib
import io
import tempfile
import unittest.mock
from pathlib import Path

from fond_echo.cli.main import main
from fond_echo.core.audio.inspect import inspect
from tests.support.serving import served
from tests.support.web import ADMIN
from tests.web.test_doors import QUESTION, ChannelTest, note


class Talk(ChannelTest):
    async def talk(self, stdin, *more):
        address = await self.enterAsyncContext(served(self.app))
        out, err = io.StringIO(), io.StringIO()

        def typed():
            with (
                contextlib.redirect_stdout(out),
                contextlib.redirect_stderr(err),
                unittest.mock.patch("sys.stdin", io.StringIO(stdin)),
            ):
                arguments = ["talk", "desk", "--address", address, "--key", ADMIN, *more]
                return main([str(each) for each in arguments])

        code = await self.working(asyncio.to_thread(typed))
        return code, out.getvalue(), err.getvalue()

    async def test_words_and_a_file_are_answered_and_the_sound_is_written(self):
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "note.ogg"
            file.write_bytes(note())
            code, out, err = await self.talk(
                f"What are the fares?\n@{file}\n@{folder}/nothing.ogg\n", "--answers", folder
            )
            self.assertEqual(code, 0, err)
            self.assertIn("route     fares", out)
            self.assertIn(f"heard     {QUESTION}", out)
            self.assertIn(f"answer    About {QUESTION}", out)
            self.assertTrue(inspect((Path(folder) / "answer-002.ogg").read_bytes()).voice_note)
            self.assertIn("nothing.ogg: No such file", err)

    async def test_an_empty_line_without_a_microphone(self):
        with unittest.mock.patch("fond_echo.cli.talking._microphone", return_value=None):
            code, _, err = await self.talk("\n")
        self.assertEqual(code, 0)
        self.assertIn("there is no microphone: type, or send @FILE", err)
