"""How evenly the packets of many calls leave, on the plain loop.

The demo runs as for a person, with one more phone line. A process of its own calls it so many times
at once, sends silence in every call every 20 ms, and notes when each packet arrives. How late a
packet is is taken against the earliest of its call: arrival minus 20 ms for each number since the
first. What the receiving loop adds is in it, and both share two cores; a pass is 99 % within 5 ms.
The calls are greeted, then silent, without recording.

    python -m bench.pacing
"""

from __future__ import annotations

import asyncio
import json
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.report import options, percentile, show
from fond_echo.client import FondEcho
from fond_echo.contract.api import LineIn
from fond_echo.core.telephony.calls import Answered, Call
from fond_echo.core.telephony.endpoint import Endpoint
from fond_echo.core.telephony.exchange import Output
from fond_echo.core.telephony.sdp import Terms, agree, offer, read_description
from fond_echo.core.telephony.values import Hop, parse_address, parse_uri
from fond_echo.demo import run as demo
from fond_echo.standins.carrier.sockets import open_socket
from fond_echo.store.local import free_port

LINE = """\
phone: bench
listen: {{host: 127.0.0.1, port: {port}, media: [40000, 41998]}}
peers: [127.0.0.1]
calls: 500
manners: {{wait_seconds: 60, greetings: 1}}
"""
COUNTS = (20, 50, 100, 150, 200)
SECONDS = 12.0
SILENCE = b"\xff" * 160


class Caller:
    """Calls, sends silence, and notes arrivals."""

    def __init__(self) -> None:
        self.arrivals: list[tuple[int, float]] = []
        self.place: tuple[str, int] | None = None
        self.number = 0

    async def open(self) -> None:
        self.rtp, self.port = await open_socket("127.0.0.1", 0, self.heard)

    def heard(self, data: bytes, _: tuple[str, int]) -> None:
        self.arrivals.append((struct.unpack_from(">H", data, 2)[0], time.perf_counter()))

    def send(self) -> None:
        if self.place is not None:
            self.number += 1
            head = struct.pack(
                ">BBHII", 0x80, 0, self.number & 0xFFFF, self.number * 160, self.port
            )
            self.rtp.sendto(head + SILENCE, self.place)

    def lateness(self) -> list[float]:
        """Milliseconds of each packet after the first second."""
        found = self.arrivals[50:]
        if not found:
            return []
        first = found[0][0]
        offsets = [at - 0.02 * ((n - first) & 0xFFFF) for n, at in found]
        earliest = min(offsets)
        return [(each - earliest) * 1_000 for each in offsets]


class Callers:
    """Many callers at one signalling socket."""

    def describe(self, call: Call, offered: bytes) -> bytes:
        raise NotImplementedError

    async def run(self, number: str, count: int) -> list[float]:
        self.sip, port = await open_socket("127.0.0.1", 0, self.signalled)
        self.endpoint = Endpoint("127.0.0.1", port, self)
        self.callers: dict[str, Caller] = {}
        loop = asyncio.get_running_loop()
        for _ in range(count):
            caller = Caller()
            await caller.open()
            described = offer(Terms("127.0.0.1", caller.port, 1))
            who = parse_address("<sip:bench@127.0.0.1>")
            call, out = self.endpoint.place(parse_uri(number), who, described, loop.time())
            self.callers[call.id] = caller
            self.done(out)
            await asyncio.sleep(0.02)
        due = end = loop.time()
        while due < end + SECONDS:
            due += 0.02
            await asyncio.sleep(max(0.0, due - loop.time()))
            for caller in self.callers.values():
                caller.send()
        for call in self.endpoint.open_calls:
            self.done(self.endpoint.hang_up(call, loop.time()))
        await asyncio.sleep(0.5)
        return [late for caller in self.callers.values() for late in caller.lateness()]

    def signalled(self, data: bytes, place: tuple[str, int]) -> None:
        self.done(self.endpoint.receive(data, Hop(*place), asyncio.get_running_loop().time()))

    def done(self, out: Output) -> None:
        for data, hop in out.send:
            self.sip.sendto(data, (hop.host, hop.port))
        for event in out.events:
            if isinstance(event, Answered):
                agreed = agree(read_description(event.call.theirs), Terms("127.0.0.1", 1, 1))
                self.callers[event.call.id].place = agreed.host, agreed.port


def main() -> None:
    if sys.argv[1:2] == ["--call"]:
        late = asyncio.run(Callers().run(sys.argv[2], int(sys.argv[3])))
        print(json.dumps([round(each, 3) for each in late]))
        return
    chosen = options(__doc__)
    rows = []
    with tempfile.TemporaryDirectory(prefix="fond-echo-bench-") as folder:
        Path(folder).chmod(0o755)
        with demo.world(Path(folder) / "data") as world:
            port = free_port()
            with FondEcho(world.settings.address, world.key) as echo:
                line = LineIn(
                    kind="phone", assistant="harbour-desk", description=LINE.format(port=port)
                )
                echo.put_line("bench", line)
            time.sleep(4)
            for count in COUNTS:
                number = f"sip:bench@127.0.0.1:{port}"
                command = [sys.executable, "-m", "bench.pacing", "--call", number, str(count)]
                told = subprocess.run(command, capture_output=True, text=True, check=True).stdout
                late = json.loads(told)
                expected = count * (SECONDS - 1) * 50
                rows.append(
                    (count, len(late), f"{len(late) / expected:.0%}",
                     f"{percentile(late, 0.5):.1f}", f"{percentile(late, 0.99):.1f}",
                     f"{sum(each <= 5 for each in late) / len(late):.1%}")
                )  # fmt: skip
    columns = ("calls at once", "packets", "of those due", "p50 ms", "p99 ms", "within 5 ms")
    show("how late packets arrive", columns, rows, chosen.json)


if __name__ == "__main__":
    main()
