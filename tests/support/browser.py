"""A browser over the running demo."""

import shutil
import tempfile
import unittest
from pathlib import Path

from playwright.sync_api import expect, sync_playwright

from fond_echo.core.audio.containers import encode
from fond_echo.web.console import STATIC
from tests.sounds import speech
from tests.support.demo import Demo

CHROMIUM = shutil.which("chromium") or "/usr/bin/chromium"
FLAGS = [
    "--no-sandbox",
    "--use-fake-device-for-media-stream",
    "--use-fake-ui-for-media-stream",
    "--disable-background-networking",
    "--autoplay-policy=no-user-gesture-required",
]
WAIT_SECONDS = 60.0
"""Long: a slow machine fails nothing here."""


class InABrowser(Demo):
    """A test that looks at pages."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        expect.set_options(timeout=WAIT_SECONDS * 1000)
        if not STATIC.joinpath("index.html").exists():
            raise unittest.SkipTest("the console is not built")
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.note = Path(folder.name) / "question.wav"
        cls.note.write_bytes(encode(speech("When is the next boat to Brannick?", "tern"), "wav"))
        playwright = sync_playwright().start()
        cls.addClassCleanup(playwright.stop)
        flags = [*FLAGS, f"--use-file-for-fake-audio-capture={cls.note}%noloop"]
        cls.browser = playwright.chromium.launch(executable_path=CHROMIUM, args=flags)
        cls.addClassCleanup(cls.browser.close)

    def page(self, **options):
        context = self.browser.new_context(viewport={"width": 1280, "height": 800}, **options)
        self.addCleanup(context.close)
        context.set_default_timeout(WAIT_SECONDS * 1000)
        page = context.new_page()
        self.warnings = []
        page.on("pageerror", lambda error: self.warnings.append(str(error)))
        page.on(
            "console",
            lambda message: (
                self.warnings.append(message.text) if "Security Policy" in message.text else None
            ),
        )
        return page

    def enter(self, page):
        page.goto(self.settings.address)
        page.get_by_label("Key").fill(self.key)
        door = page.get_by_role("button", name="Sign in")
        door.click()
        # The door has the same heading: only when it is gone has the key been exchanged.
        expect(door).to_have_count(0)
        expect(page.get_by_role("heading", name="Fond Echo")).to_be_visible()
