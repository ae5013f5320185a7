"""Passengers of the demo by the dozen, for benchmarks: each with an account on the stand-in
network, sending voice notes and texts, and counting what comes back."""

from __future__ import annotations

import contextlib
import os
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import psycopg

from fond_echo.core.audio.clip import join
from fond_echo.core.audio.containers import encode
from fond_echo.core.language.registry import language
from fond_echo.demo import run as demo
from fond_echo.demo.world import files_of
from fond_echo.documents.digest import digest
from fond_echo.running.supervisor import Part
from fond_echo.speech.material import synthesizer
from fond_echo.store.database import plain_url
from fond_echo.store.local import LocalPostgres
from fond_echo.turns.turn import assistant_of

QUESTIONS = (
    "When is the next boat to Brannick?",
    "When is the next boat to Pell?",
    "How much is a ticket?",
    "I lost my umbrella.",
)


def _said_beside_answers() -> frozenset[str]:
    """What the demo's assistant writes while an answer takes its time."""
    files = files_of("harbour-desk")
    own = assistant_of(digest(files), files).please_wait.text
    return frozenset([language().sentences["please-wait"], own])


BESIDE = _said_beside_answers()


def voice_notes() -> list[bytes]:
    """The questions, each said by two voices."""
    said = []
    for voice in ("curlew", "petrel"):
        for question in QUESTIONS:
            parts = synthesizer().speak(question, voice)
            said.append(encode(join([part.clip for part in parts]), "ogg"))
    return said


@dataclass
class Running:
    """The demo under load: its world, its database server, a client for its network."""

    world: demo.World
    postgres: LocalPostgres
    network: httpx.Client

    def part(self, name: str) -> Part:
        return next(part for part in self.world.supervisor.parts if part.name == name)

    def add_worker(self) -> Part:
        """One more work process, which is tended like the others."""
        work = self.part("work")
        other = Part(f"work {self.workers() + 1}", work.module, work.arguments, work.environment)
        other.start()
        self.world.supervisor.parts.append(other)
        return other

    def add_web(self) -> str:
        """One more web process on a port of its own, which is tended like the others; its
        address."""
        web, port = self.part("web"), demo.free_port()
        address = f"http://{self.world.settings.host}:{port}"
        environment = {**web.environment, "FOND_ECHO_PORT": str(port)}
        other = Part(f"web {port}", web.module, web.arguments, environment, f"{address}/health")
        other.start()
        self.world.supervisor.parts.append(other)
        while True:
            with contextlib.suppress(httpx.HTTPError):
                if httpx.get(other.ready, trust_env=False).status_code == 200:
                    return address
            time.sleep(0.1)

    def wait_until_done(self) -> None:
        """Until no turn waits to be worked."""
        waiting = "SELECT count(*) FROM procrastinate_jobs WHERE status IN ('todo', 'doing')"
        with psycopg.connect(plain_url(self.postgres.url), autocommit=True) as connection:
            while connection.execute(waiting).fetchone() != (0,):
                time.sleep(0.5)

    def workers(self) -> int:
        return sum(part.name.startswith("work") for part in self.world.supervisor.parts)


@contextmanager
def running(*, lasting: bool = True) -> Iterator[Running]:
    """The demo, with a database server that a benchmark may stop and start."""
    with tempfile.TemporaryDirectory(prefix="fond-echo-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        postgres = LocalPostgres(folder / "postgres", lasting=lasting)
        postgres.start()
        usual = os.environ.get("FOND_ECHO_DATABASE")
        os.environ["FOND_ECHO_DATABASE"] = postgres.url
        os.environ.setdefault("FOND_ECHO_LOG_LEVEL", "warning")
        try:
            with demo.world(folder / "data") as world:
                address = world.places.network
                with httpx.Client(base_url=address, trust_env=False, timeout=60) as network:
                    yield Running(world, postgres, network)
        finally:
            postgres.stop()
            if usual is None:
                del os.environ["FOND_ECHO_DATABASE"]
            else:
                os.environ["FOND_ECHO_DATABASE"] = usual


def open_accounts(network: httpx.Client, count: int) -> list[str]:
    """People with accounts, by id."""
    people = [f"passenger-{number}" for number in range(1, count + 1)]
    for person in people:
        network.post("/people", json={"id": person, "name": person}).raise_for_status()
    return people


def answers(network: httpx.Client, person: str, after: int = 0) -> list[dict[str, Any]]:
    """What the bot answered in a person's room; that it takes a moment is no answer."""
    found = network.get(f"/rooms/room-{person}/posts", params={"after": after}).json()
    posts = [post for post in found["posts"] if post["sender"]["automated"]]
    return [post for post in posts if post.get("words") not in BESIDE]


def wait_for(network: httpx.Client, expected: dict[str, int], seconds: float) -> float:
    """Wait until everybody has as many answers as expected; the seconds that took, and at most
    `seconds` after the last answer came."""
    begun = changed = time.monotonic()
    missing = dict(expected)
    while missing and time.monotonic() - changed < seconds:
        for person, count in list(missing.items()):
            left = expected[person] - len(answers(network, person))
            if left != count:
                changed = time.monotonic()
            missing[person] = left
            if left <= 0:
                del missing[person]
        # Seldom: whoever counts takes time from what is measured.
        time.sleep(0.5)
    return time.monotonic() - begun


def tell(line: str) -> None:
    """A line of progress, beside the figures."""
    print(line, file=sys.stderr, flush=True)
