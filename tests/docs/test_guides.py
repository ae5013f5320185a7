"""What the guides show is there, and runs."""

import re
import subprocess
import sys
import time
import unittest
import unittest.mock
from pathlib import Path

import httpx

from docs.examples.tide_office import bridge
from fond_echo.cli.main import main
from fond_echo.documents.reading import read_assistant
from fond_echo.store.local import free_port

ROOT = Path(__file__).parents[2]
PAGES = sorted([*ROOT.glob("*.md"), *(ROOT / "docs").rglob("*.md")])
LINK = re.compile(r"\]\(([^)#\s]+)(?:#[^)]*)?\)")
EXAMPLE = ROOT / "docs" / "examples" / "tide_office"


class Pages(unittest.TestCase):
    def test_links_lead_somewhere(self):
        for page in PAGES:
            for link in LINK.findall(page.read_text()):
                if "://" not in link:
                    with self.subTest(page=page.name, link=link):
                        self.assertTrue((page.parent / link).exists())

    def test_every_kind_of_error_is_explained(self):
        explained = (ROOT / "docs" / "reference" / "errors.md").read_text()
        codes = set()
        for file in (ROOT / "fond_echo").rglob("*.py"):
            codes.update(
                re.findall(r"""^    code(?:: str)? = "([a-z-]+)"$""", file.read_text(), re.M)
            )
        self.assertGreater(len(codes), 40)
        self.assertEqual({code for code in codes if f"`{code}`" not in explained}, set())


class TideOffice(unittest.IsolatedAsyncioTestCase):
    """An existing text service that is given an ear and a voice."""

    def setUp(self):
        port = free_port()
        command = [sys.executable, "-m", "docs.examples.tide_office.office", str(port)]
        office = subprocess.Popen(command, cwd=ROOT)
        self.addCleanup(office.wait)
        self.addCleanup(office.terminate)
        self.office = f"http://127.0.0.1:{port}"
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            try:
                httpx.post(f"{self.office}/question", json={"words": ""}, trust_env=False)
                break
            except httpx.ConnectError:
                time.sleep(0.05)

    async def test_the_bridge_asks_the_office(self):
        files = {"assistant.yaml": (EXAMPLE / "assistant.yaml").read_text()}
        assistant = read_assistant(files)
        replies = [*(each.reply for each in assistant.routes), assistant.fallback.reply]
        actions = {reply.logic.partition(".")[2] for reply in replies}
        with unittest.mock.patch.object(bridge, "OFFICE", self.office):
            for action in actions:
                reply = await bridge.app.ask(action, "When is high water at Pell?")
                self.assertEqual(reply.text, "High water at Pell today is at 06:55 and 19:20.")

    def test_the_assistant_has_no_errors(self):
        self.assertEqual(main(["assistant", "check", str(EXAMPLE)]), 0)
