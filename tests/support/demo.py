"""The whole demo, with its own processes on free ports, started once for all tests that play in
it."""

from __future__ import annotations

import atexit
import contextlib
import io
import shutil
import tempfile
import time
import unittest
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Any

import httpx

from fond_echo.cli.main import main
from fond_echo.client import FondEcho
from fond_echo.contract.api import TurnOut
from fond_echo.demo import run as demo

PLEASE_WAIT = "One moment, I am looking into it."


@lru_cache(maxsize=1)
def running() -> demo.World:
    """The demo, until the tests end."""
    folder = Path(tempfile.mkdtemp(prefix="fond-echo-demo-"))
    folder.chmod(0o755)
    demo._port = lambda name: demo.free_port()
    world = demo.world(folder / "data")
    entered = world.__enter__()

    def end() -> None:
        world.__exit__(None, None, None)
        shutil.rmtree(folder, ignore_errors=True)

    atexit.register(end)
    return entered


class Demo(unittest.TestCase):
    """A test that plays in the demo."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.world = running()
        cls.settings, cls.places, cls.key = cls.world.settings, cls.world.places, cls.world.key
        cls.network = httpx.Client(base_url=cls.places.network, trust_env=False, timeout=60)
        cls.addClassCleanup(cls.network.close)

    def part(self, name: str) -> Any:
        """One of the demo's processes."""
        return next(part for part in self.world.supervisor.parts if part.name == name)

    def say(self, words: str, person: str = "isla") -> Any:
        return self.network.post(f"/people/{person}/say", json={"words": words}).json()

    def answer_to(self, post: Any, seconds: float = 60) -> Any:
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            posts = self.network.get(
                f"/rooms/{post['room']}/posts", params={"after": post["number"]}
            ).json()["posts"]
            found = [p for p in posts if p["sender"]["automated"] and p.get("words") != PLEASE_WAIT]
            if found:
                return found[0]
            time.sleep(0.05)
        self.fail(f"no answer to {post}; the latest turns:\n{self.latest()}")

    def latest(self, count: int = 8) -> str:
        """How the latest turns stand, a line each, to see why something did not come about."""
        with FondEcho(self.settings.address, self.key) as echo:
            return "\n".join(
                f"{turn.channel} {turn.contact_name} {turn.number} {turn.state} {turn.cause}"
                f" {turn.text!r} {[(each.kind, each.state, each.text) for each in turn.deliveries]}"
                f" {turn.error or ''} {turn.received_at} {turn.finished_at}"
                for turn in echo.turns(limit=count).items
            )

    def eventually(self, look: Callable[[], Any], seconds: float = 60) -> Any:
        """What a look gives, once it gives something."""
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            if found := look():
                return found
            time.sleep(0.1)
        self.fail(f"it did not come about; the latest turns:\n{self.latest()}")

    def quiet(self, echo: FondEcho, seconds: float = 120) -> list[TurnOut]:
        """All turns, once none of them has anything left to do: an answer is out before its turn
        is written down as answered."""
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            turns = echo.turns(limit=200).items
            states = {each.state for turn in turns for each in (turn, *turn.deliveries)}
            if not states & {"received", "working", "waiting", "planned", "sending"}:
                return turns
            time.sleep(0.2)
        self.fail("something is still being worked on")

    def command(self, *arguments: str) -> tuple[int, str]:
        out = io.StringIO()
        service = ("--address", self.settings.address, "--key", self.key)
        with contextlib.redirect_stdout(out):
            code = main([*arguments, *service])
        return code, out.getvalue()
