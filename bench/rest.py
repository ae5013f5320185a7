"""How soon the demo is ready, and what it takes while nobody asks anything.

`fond-echo demo` is started with a folder of its own: once to set that up, then again and again,
each time from the command to the line that says where the console is. The last one is left alone
for a while, and what all its processes take is read: the service's, PostgreSQL's, those of the
stand-ins. Run it as root, or the database's memory cannot be read.

    python -m bench.rest
"""

from __future__ import annotations

import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from bench.passengers import tell
from bench.processes import memory, processor, spent
from bench.report import options, percentile, show

READY = "Console "
SETTLING = 20.0
"""Seconds from the start until it is taken to be at rest."""


@contextmanager
def started(folder: Path) -> Iterator[tuple[int, float]]:
    """The demo while it runs: its process, and the seconds that it took to be ready."""
    begun = time.monotonic()
    command = [sys.executable, "-m", "fond_echo.cli", "demo", "--folder", str(folder)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        try:
            for line in process.stdout:
                if line.strip().startswith(READY):
                    yield process.pid, time.monotonic() - begun
                    return
            raise RuntimeError(f"the demo ended before it was ready: {process.wait()}")
        finally:
            process.send_signal(signal.SIGINT)
            process.stdout.read()


def main() -> None:
    chosen = options(__doc__, starts=6, seconds=60)
    took: list[float] = []
    with tempfile.TemporaryDirectory(prefix="fond-echo-bench-") as name:
        folder = Path(name) / "demo"
        Path(name).chmod(0o755)
        with started(folder) as (_, seconds):
            tell(f"set up in {seconds:.1f} s")
        for _ in range(chosen.starts - 1):
            with started(folder) as (_, seconds):
                took.append(seconds)
        with started(folder) as (demo, seconds):
            took.append(seconds)
            time.sleep(SETTLING)
            before, begun = processor(demo), time.monotonic()
            time.sleep(chosen.seconds)
            share = 100 / (time.monotonic() - begun)
            busy, held = spent(before, processor(demo)), memory(demo)
    starts = ("from the command to ready, s", min(took), percentile(took, 0.5), max(took))
    show(f"{chosen.starts} starts", ("what", "fastest", "p50", "slowest"), [starts])
    rows = [(part, share * busy[part], held[part]) for part in sorted(held, key=held.__getitem__)]
    rows.append(("all", share * sum(busy.values()), sum(held.values())))
    show("At rest", ("what", "% of a core", "MB"), rows, chosen.json)


if __name__ == "__main__":
    main()
