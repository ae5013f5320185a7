"""Starting processes together, restarting those that end, and stopping all of them cleanly."""

from __future__ import annotations

import signal
import subprocess
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

import httpx

from fond_echo.core.errors import FondEchoError
from fond_echo.running.errors import DidNotStart
from fond_echo.running.fork_server import Forked, begin
from fond_echo.tls import trusted
from fond_echo.watchdog import ended_by_it

RESTART_SECONDS = 0.3
STOP_SECONDS = 15.0
LAST_LINES = 12


@dataclass
class Part:
    """A process: its name, what it runs, and where it answers when it is ready.

    Attributes:
        module: of Python, which is run with the arguments.
    """

    name: str
    module: str
    arguments: Sequence[str] = ()
    environment: Mapping[str, str] = field(default_factory=dict)
    ready: str = ""
    process: subprocess.Popen[bytes] | Forked | None = None
    ended_at: float = 0.0

    def start(self, log: Path | None = None) -> None:
        """Start it; what it writes goes to a file where one is given."""
        # A session of its own: Ctrl-C reaches the supervisor, which stops parts in order.
        self.process = begin(self.module, self.arguments, self.environment, log)

    def running(self) -> bool:
        return self.process is not None and self.process.poll() is None

    def stop(self) -> None:
        if self.process is None:
            return
        if self.process.poll() is None:
            self.process.send_signal(signal.SIGTERM)
            try:
                self.process.wait(STOP_SECONDS)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()
        self.process = None


class Tended(Protocol):
    """What is started again when it ends."""

    name: str
    ended_at: float

    def running(self) -> bool: ...

    def start(self) -> None: ...


class Supervisor:
    """Runs parts until it is told to stop, and starts again those that end.

    Args:
        parts: started in this order, stopped in reverse.
        say: where news about parts goes.
        beside: runs already, and is only started again where it ends.
        log: a file that parts write to instead of where this process does.
    """

    def __init__(
        self, parts: Sequence[Part], say: Callable[[str], None], beside: Sequence[Tended] = (),
        log: Path | None = None,
    ) -> None:  # fmt: skip
        self._log = log
        self.parts = list(parts)
        self._beside = list(beside)
        self._say = say
        self._stopping = threading.Event()
        self._tending = threading.Thread(target=self._tend, daemon=True)

    def start(self, *, seconds: float = 60.0) -> None:
        """Start all parts.

        Raises:
            DidNotStart: one ended or did not answer in time; those started before are stopped.
        """
        try:
            for part in self.parts:
                part.start(self._log)
            for part in self.parts:
                self._await(part, seconds)
        except BaseException:
            self.stop()
            raise
        self._tending.start()

    def _await(self, part: Part, seconds: float) -> None:
        deadline = time.monotonic() + seconds
        while part.ready and time.monotonic() < deadline:
            if not part.running():
                break
            try:
                answer = httpx.get(part.ready, timeout=2.0, trust_env=False, verify=trusted())
                if answer.status_code == 200:
                    return
            except httpx.HTTPError:
                pass
            time.sleep(0.05)
        if part.ready or not part.running():
            raise DidNotStart(f"{part.name} did not start", remedy=self._why())

    def _why(self) -> str:
        """Where it is said why something did not start: of a file, its last lines."""
        if self._log is None or not self._log.exists():
            return "its own lines above say why"
        reported = self._log.read_text("utf-8", "replace").splitlines()[-LAST_LINES:]
        return "\n".join([f"the end of {self._log} says why:", *reported])

    def _again(self, part: Tended) -> None:
        if isinstance(part, Part):
            part.start(self._log)
        else:
            part.start()

    def _tend(self) -> None:
        """Start parts again that end."""
        while not self._stopping.wait(0.2):
            for part in (*self._beside, *self.parts):
                if part.running() or self._stopping.is_set():
                    continue
                if not part.ended_at:
                    part.ended_at = time.monotonic()
                    self._say(f"{part.name} {_how_it_ended(part)}; it is started again")
                elif time.monotonic() - part.ended_at >= RESTART_SECONDS:
                    part.ended_at = 0.0
                    try:
                        self._again(part)
                    except (FondEchoError, OSError) as error:
                        self._say(f"{part.name} does not start: {error}")

    def watch(self) -> None:
        """Wait until a signal comes, that of a terminal that is closed among them, or `stop` is
        called."""
        for name in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            signal.signal(name, lambda *_: self._stopping.set())
        self._stopping.wait()

    def stop(self) -> None:
        """Stop all parts, the last started first."""
        self._stopping.set()
        if self._tending.is_alive():
            self._tending.join()
        for part in reversed(self.parts):
            part.stop()


def _how_it_ended(part: Tended) -> str:
    process = part.process if isinstance(part, Part) else None
    if process is not None and ended_by_it(process.poll()):
        return "stalled and was ended; its log shows where"
    return "ended"
