"""Events posted to subscribers, one of whom never answers.

The demo runs as for a person, with three subscribers that answer at once and a fourth that takes
the request and never answers. Fifty events a second are written for twenty seconds; how late each
is is taken from its writing to its arrival at the quick ones. First without the fourth, then with
it.

    python -m bench.subscribers
"""

from __future__ import annotations

import asyncio
import os
import socket
import tempfile
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from bench.report import options, percentile, show
from fond_echo.client import FondEcho
from fond_echo.demo import run as demo
from fond_echo.store.database import Database
from fond_echo.store.events import emit
from fond_echo.store.local import free_port

SECRET = "whsec_" + "YmVuY2gtYmVuY2gtYmVuY2gtYmVuY2gtYmVuY2gtMTIz"
KIND = "turn.answered"
DRAIN_SECONDS = 60.0


class Receiver(BaseHTTPRequestHandler):
    """Answers at once, and notes when an event came."""

    arrivals: dict[str, list[tuple[int, float]]]
    protocol_version = "HTTP/1.1"

    def do_POST(self) -> None:  # the library's name
        body = self.rfile.read(int(self.headers["Content-Length"]))
        at = time.time()
        marked = body.rpartition(b'"bench":')[2]
        number = int(marked.lstrip().split(b"}")[0].split(b",")[0]) if marked != body else -1
        self.arrivals[self.path].append((number, at))
        self.send_response(204)
        self.end_headers()

    def log_message(self, format: str, *args: object) -> None:
        """Nothing: there are thousands."""


class Receivers(ThreadingHTTPServer):
    """Takes as many connections at once as are made."""

    request_queue_size = 256
    daemon_threads = True


async def write(url: str, rate: int, seconds: int, first: int) -> list[float]:
    """Write events, numbered from `first` on; gives when each was."""
    database, written = Database(url), []
    begun = time.monotonic()
    for number in range(rate * seconds):
        await asyncio.sleep(max(0.0, begun + number / rate - time.monotonic()))
        async with database.writing() as session:
            written.append(time.time())
            await emit(session, KIND, f"bench-{first + number}", bench=first + number)
    await database.close()
    return written


def main() -> None:
    chosen = options(__doc__, rate=50, seconds=20)
    quick, hanging = free_port(), free_port()
    os.environ["FOND_ECHO_PRIVATE_HOSTS"] = f"127.0.0.1:{quick},127.0.0.1:{hanging}"
    arrivals: dict[str, list[tuple[int, float]]] = {f"/{n}": [] for n in range(3)}
    Receiver.arrivals = arrivals
    server = Receivers(("127.0.0.1", quick), Receiver)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    silent = socket.create_server(("127.0.0.1", hanging), backlog=50)
    rows = []
    with tempfile.TemporaryDirectory(prefix="fond-echo-bench-") as folder:
        Path(folder).chmod(0o755)
        with (
            demo.world(Path(folder) / "data") as world,
            FondEcho(world.settings.address, world.key) as echo,
        ):
            echo.put_secret(
                "bench-secret", SECRET, [f"127.0.0.1:{each}" for each in (quick, hanging)]
            )
            for path in arrivals:
                echo.subscribe(f"http://127.0.0.1:{quick}{path}", "bench-secret", [KIND])
            for title in ("three quick", "and one that hangs"):
                if title != "three quick":
                    echo.subscribe(f"http://127.0.0.1:{hanging}/", "bench-secret", [KIND])
                time.sleep(3.0)
                for found in arrivals.values():
                    found.clear()
                url = world.settings.database
                first = len(rows) * 1_000_000
                written = asyncio.run(write(url, chosen.rate, chosen.seconds, first))
                # Until everything has come: late ones count, and the next row begins with none.
                until = time.monotonic() + DRAIN_SECONDS
                while time.monotonic() < until and any(
                    len(found) < len(written) for found in arrivals.values()
                ):
                    time.sleep(0.2)
                late = [
                    1_000 * (at - written[number - first])
                    for found in arrivals.values()
                    for number, at in found
                    if 0 <= number - first < len(written)
                ]
                came = f"{len(late)} of {3 * len(written)}"
                figures = (percentile(late, each) for each in (0.5, 0.95, 0.99))
                rows.append((title, came, *(f"{each:.0f}" for each in figures)))
    silent.close()
    show("events at the quick subscribers", ("subscribers", "came", "p50 ms", "p95 ms", "p99 ms"),
         rows, chosen.json)  # fmt: skip


if __name__ == "__main__":
    main()
