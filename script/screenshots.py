"""Makes docs/screenshots anew from the demo: .venv/bin/python script/screenshots.py

Every picture shows what a person would see: the tour's own output, and pages in a browser.
"""

from __future__ import annotations

import contextlib
import html
import os
import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

import httpx
import numpy as np
from playwright.sync_api import Browser, Page, sync_playwright

from fond_echo.client import FondEcho
from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.containers import encode
from fond_echo.demo import run as demo
from fond_echo.demo.tour import Tour
from fond_echo.speech.material import synthesizer

TARGET = Path(__file__).parents[1] / "docs" / "screenshots"
WIDTH, HEIGHT = 1280, 800
FLAGS = [
    "--no-sandbox",
    "--use-fake-device-for-media-stream",
    "--use-fake-ui-for-media-stream",
]
TERMINAL = """<!doctype html><meta charset="utf-8"><style>
body { margin: 0; background: #10191d; color: #dde7e4; }
pre { margin: 0; padding: 18px 22px; font: 14px/1.4 "DejaVu Sans Mono", monospace; }
</style><pre>%s</pre>"""


def page_of(browser: Browser, dark: bool = False) -> Page:
    scheme = "dark" if dark else "light"
    return browser.new_page(viewport={"width": WIDTH, "height": HEIGHT}, color_scheme=scheme)


def terminal(browser: Browser, name: str, command: str, lines: list[str]) -> None:
    """A command and its output as it stands in a terminal."""
    page = page_of(browser)
    page.set_content(TERMINAL % html.escape("\n".join([f"$ {command}", *lines])))
    page.screenshot(path=TARGET / f"{name}.png")


def signed_in(browser: Browser, world: demo.World, dark: bool = False) -> Page:
    page = page_of(browser, dark)
    page.goto(world.settings.address)
    page.get_by_label("Key").fill(world.key)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("row", name="Isla Quennell").first.wait_for()
    return page


def of_the_console(browser: Browser, world: demo.World) -> None:
    """The log by day and by night, a turn, the channels, keys and events."""
    for dark in (False, True):
        page = signed_in(browser, world, dark)
        page.get_by_role("row", name="Isla Quennell").first.click()
        page.get_by_role("link", name="stages").first.click()
        page.get_by_role("img", name="Lengths of the stages").wait_for()
        shot(page, "conversations-dark" if dark else "conversations")
        if not dark:
            page.get_by_role("link", name="Everything about this turn").click()
            page.get_by_role("heading", name="Stages").wait_for()
            shot(page, "turn")
            page.get_by_role("link", name="Assistants").click()
            page.get_by_role("link", name="harbour-desk").click()
            page.get_by_role("button", name="Record").click()
            page.wait_for_timeout(3_200)
            page.get_by_role("button", name=re.compile("Stop")).click()
            page.get_by_role("button", name="Try the recording").click()
            page.get_by_text("heard in a recording").wait_for()
            page.get_by_label("Say something").fill("is it expensive to take my bike")
            page.get_by_role("button", name="Try", exact=True).click()
            shot(page, "assistant", 2_000)
            page.get_by_role("link", name="Channels").click()
            page.get_by_role("link", name=re.compile("^exchange")).click()
            page.get_by_role("button", name="Call", exact=True).click()
            page.get_by_text("talking", exact=True).wait_for()
            shot(page, "channels", 1_500)
            page.get_by_role("button", name="Hang up").click()
            page.get_by_role("row").filter(has_text="+441632960101").get_by_role("link").click()
            page.get_by_role("heading", name="What happened").wait_for()
            shot(page, "call", 1_500)
            page.get_by_role("link", name="Speech", exact=True).click()
            page.get_by_role("button", name="Hear it").click()
            page.get_by_label("Play: the text as sound").wait_for()
            shot(page, "speech", 1_000)
            page.get_by_role("link", name="Engines", exact=True).click()
            page.get_by_role("button", name="harbour-mind", exact=True).click()
            page.get_by_label("A question").fill("May my dog come along?")
            page.get_by_role("button", name="Ask it once").click()
            shot(page, "engines", 1_500)
            page.get_by_role("link", name="Keys and events").click()
            shot(page, "keys")
        page.close()


def of_change(browser: Browser, world: demo.World) -> None:
    """A turn beside itself on what is live now, and a draft that a case holds back."""
    page = signed_in(browser, world)
    with FondEcho(world.settings.address, world.key) as echo:
        turn = echo.turns(text="canoe", limit=5).items[-1]
        draft = echo.draft("harbour-desk")
        files = dict(draft.files)
        files["assistant.yaml"] = files["assistant.yaml"].replace(
            "We have no canoes.", "We have canoes."
        )
        echo.put_assistant("harbour-desk", files)
    page.goto(f"{world.settings.address}/turns/{turn.id}")
    page.get_by_role("button", name="On live").click()
    page.get_by_text(re.compile("^Different:")).wait_for()
    page.get_by_label("Keep it as a case").fill("no-canoes-yet")
    shot(page, "replay")
    page.goto(f"{world.settings.address}/assistants/harbour-desk")
    page.get_by_role("button", name=re.compile("^Run")).click()
    page.get_by_text("failed", exact=True).first.wait_for()
    page.get_by_role("button", name="Publish", exact=True).click()
    page.get_by_role("alert").first.wait_for()
    shot(page, "cases")
    page.close()


def of_the_bench(browser: Browser, world: demo.World, folder: Path) -> None:
    """Four engines on twelve recordings, half of them in noise: in the terminal and as a page."""
    sentences = (
        "When does the next boat to Pell sail?", "I left a green rope in the waiting room.",
        "There is a dog on the quay.", "The crossing to Brannick is off because of the wind.",
        "Book two places to Ossel for my bicycle.", "The boat is late and the tide is low.",
    )  # fmt: skip
    notes, rng = folder / "notes", np.random.default_rng(7)
    notes.mkdir()
    for number, text in enumerate(sentences * 2):
        voice = ("curlew", "tern", "dunlin", "petrel")[number % 4]
        clip = join([part.clip for part in synthesizer().speak(text, voice)])
        if number >= len(sentences):
            noise = rng.normal(0, 0.03, len(clip)).astype(np.float32)
            clip = Clip(clip.samples + noise, clip.rate)
        (notes / f"note-{number:02}.ogg").write_bytes(encode(clip, "ogg"))
        (notes / f"note-{number:02}.txt").write_text(text)
    engines = ("far-ear", "slow-ear", "cheap-ear", "built-in")
    chosen = [word for name in engines for word in ("--engine", name)]
    command = ["bench", "run", "notes-of-a-week", str(notes), *chosen]
    environment = {**os.environ, "FOND_ECHO_KEY": world.key, "PYTHONPATH": str(Path.cwd())}
    subprocess.run(
        [sys.executable, "-m", "fond_echo.cli", *command, "--address", world.settings.address],
        check=True, capture_output=True, env=environment,
    )  # fmt: skip
    page = signed_in(browser, world)
    page.get_by_role("link", name="Engines", exact=True).click()
    page.get_by_role("heading", name="Word by word").wait_for()
    page.get_by_role("heading", name="Benches").scroll_into_view_if_needed()
    page.evaluate("document.querySelectorAll('h3')[0].scrollIntoView()")
    shot(page, "bench", 1_000)
    page.close()


def of_standins(browser: Browser, world: demo.World) -> None:
    """The stand-in network's page, and the public page on a telephone."""
    page = page_of(browser)
    page.goto(world.places.network)
    httpx.post(f"{world.places.network}/people/isla/say", json={"words": "Lost property"})
    shot(page, "skerry", 2_500)
    telephone = browser.new_page(viewport={"width": 400, "height": 800})
    telephone.goto(world.page)
    telephone.get_by_label("What to ask").fill("When is the next boat to Pell?")
    telephone.get_by_role("button", name="Send").click()
    shot(telephone, "guest", 3_000)


def of_the_ear(browser: Browser, folder: Path) -> None:
    """What `transcribe` says of three files, and as subtitles."""
    sentences = {
        "question": ("When is the next boat to Brannick?", "tern"),
        "letter": ("I left my umbrella on the boat. Could somebody look for it?", "petrel"),
        "number": ("My number is zero one six three two, nine six zero, one four seven.", "dunlin"),
    }
    names = []
    for name, (text, voice) in sentences.items():
        clip = join([part.clip for part in synthesizer().speak(text, voice)])
        (folder / f"{name}.ogg").write_bytes(encode(clip, "ogg"))
        names.append(f"{name}.ogg")
    desk = str(Path("fond_echo/demo/harbour-desk").resolve())
    reported: list[str] = []
    for shown, given in (
        (["--assistant", "harbour-desk", *names], ["--assistant", desk, *names]),
        (["--form", "vtt", "letter.ogg"],) * 2,
    ):
        out = subprocess.run(
            [sys.executable, "-m", "fond_echo.cli", "transcribe", *given],
            cwd=folder, capture_output=True, text=True, check=True,
            env={**os.environ, "PYTHONPATH": str(Path.cwd())},
        ).stdout  # fmt: skip
        reported += [f"$ fond-echo transcribe {' '.join(shown)}", *out.splitlines(), ""]
    terminal(browser, "transcribe", reported[0].removeprefix("$ "), reported[1:])


def shot(page: Page, name: str, milliseconds: int = 700) -> None:
    page.wait_for_timeout(milliseconds)
    page.screenshot(path=TARGET / f"{name}.png")


def main() -> None:
    TARGET.mkdir(parents=True, exist_ok=True)
    folder = Path(tempfile.mkdtemp(prefix="fond-echo-shots-"))
    folder.chmod(0o755)
    chromium = shutil.which("chromium") or "/usr/bin/chromium"
    try:
        with demo.world(folder / "data") as world, contextlib.ExitStack() as stack:
            note = folder / "question.wav"
            spoken = synthesizer().speak("When is the next boat to Brannick?", "tern")
            note.write_bytes(encode(join([part.clip for part in spoken]), "wav"))
            reported: list[str] = []
            with FondEcho(world.settings.address, world.key) as echo:
                Tour(echo, world, lambda line="": reported.extend(line.split("\n"))).run()
            # The tour runs loops of its own, and the browser's would be around them.
            tool = stack.enter_context(sync_playwright())
            browser = tool.chromium.launch(
                executable_path=chromium, args=[*FLAGS, f"--use-file-for-fake-audio-capture={note}"]
            )
            terminal(browser, "tour", "script/demo --tour", reported[:42])
            of_the_ear(browser, folder)
            of_the_console(browser, world)
            of_change(browser, world)
            of_the_bench(browser, world, folder)
            of_standins(browser, world)
            browser.close()
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
