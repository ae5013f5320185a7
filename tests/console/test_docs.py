"""What the docs show is run: commands and Python blocks, in the demo that all tests of this group
share."""

import ast
import asyncio
import contextlib
import io
import os
import re
import shutil
import tempfile
from pathlib import Path
from unittest import mock

from fond_echo.cli.main import main
from fond_echo.core.audio.clip import join, silence
from fond_echo.core.audio.resample import at_rate
from fond_echo.speech.material import synthesizer
from tests.docs.test_blocks import PAGES, ROOT, blocks, commands
from tests.support.demo import Demo

RUN = (
    "assistant check", "assistant gaps", "assistant history", "assistant new", "assistant schema",
    "assistant test", "call list", "clip inspect", "conversation list", "engine check", "engine list",
    "engine show", "engine try", "settings", "speak", "transcribe reply.ogg", "turn list",
    "voice adjust", "voice list", "voice pronounce",
)  # fmt: skip
"""Commands that work in the demo as they are written, and change nothing that others count on."""

LEXICON = """\
<lexicon version="1.0" xmlns="http://www.w3.org/2005/01/pronunciation-lexicon" alphabet="ipa"
  xml:lang="en"><lexeme><grapheme>Brannick</grapheme><phoneme>ˈbrænɪk</phoneme></lexeme></lexicon>
"""


async def microphone():
    """Somebody who asks, at 8 kHz."""
    parts = synthesizer().speak("How much is a ticket?", "petrel")
    clip = at_rate(join([*(part.clip for part in parts), silence(1.0, 16_000)]), 8_000)
    data = (clip.samples * 32_767).astype("<i2").tobytes()
    for start in range(0, len(data), 3_200):
        yield data[start : start + 3_200]


class Shown(Demo):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp(prefix="fond-echo-docs-"))
        self.addCleanup(shutil.rmtree, self.folder)
        demo = ROOT / "fond_echo" / "demo"
        for name in ("fond_echo", "docs"):
            (self.folder / name).symlink_to(ROOT / name)
        shutil.copytree(demo / "harbour-desk", self.folder / "harbour-desk")
        shutil.copy(demo / "engines" / "far-ear.yaml", self.folder)
        (self.folder / "islands.pls").write_text(LEXICON)
        self.enterContext(contextlib.chdir(self.folder))
        own = {"FOND_ECHO_ADDRESS": self.settings.address, "FOND_ECHO_KEY": self.key}
        self.enterContext(mock.patch.dict(os.environ, own))
        self.typed(["speak", "When is high water at Ossel?", "-o", "question.ogg"])

    def typed(self, words):
        """Type a command; its exit code, and all that it said."""
        out = io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
            try:
                code = main(words)
            except SystemExit as ended:
                code = ended.code
        return code, out.getvalue()

    def test_commands(self):
        count = 0
        for page in PAGES:
            for number, words in commands(page):
                asks = "--ask" in words  # of what another command has put into the service
                if (
                    asks
                    or any(word.isupper() for word in words)
                    or not " ".join(words).startswith(RUN)
                ):
                    continue
                with self.subTest(page=page.name, line=number, words=words):
                    code, said = self.typed(words)
                    if code == 2 and "arguments are required" in said:
                        continue  # a command is named there, not typed
                    self.assertEqual(code, 0, said)
                    self.assertTrue(said.strip())
                    count += 1
        self.assertGreater(count, 25)

    def test_python(self):
        count = 0
        for page in PAGES:
            for block in blocks(page):
                if not re.search(r"with (Async)?FondEcho\(", block):
                    continue
                code = block.replace("http://127.0.0.1:8770", self.settings.address)
                code = code.replace("YOUR-KEY", self.key)
                out = io.StringIO()
                with self.subTest(page=page.name), contextlib.redirect_stdout(out):
                    ran = compile(code, page.name, "exec", ast.PyCF_ALLOW_TOP_LEVEL_AWAIT)
                    waits = eval(ran, {"key": self.key, "microphone": microphone})
                    if waits is not None:
                        asyncio.run(waits)
                    self.assertTrue(out.getvalue().strip())
                    count += 1
        self.assertGreater(count, 1)
