"""How evenly the packets of many calls leave, on the plain loop.

The demo runs as for a person, with one more phone channel. A process of its own calls it, so many
calls a second, until so many are there; it sends silence in every call every 20 ms, and notes when
each packet arrives. How late a packet is is taken against the earliest of its call: arrival minus
20 ms for each number since the first. What the receiving loop adds is in it, and both share two
cores; a pass is 99 % within 5 ms. The calls are greeted, then silent, without recording. "Calling"
are the packets while more calls come, "settled" those of twelve seconds after the last greeting,
"over" those of twelve seconds in which half as many more call again and again.

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
from collections import Counter
from pathlib import Path
from random import SystemRandom

from bench.report import options, percentile, show
from fond_echo.client import FondEcho
from fond_echo.contract.api import ChannelIn
from fond_echo.core.telephony.sip.calls import Answered, Call, Ended
from fond_echo.core.telephony.sip.endpoint import Endpoint
from fond_echo.core.telephony.sip.sdp import Terms, agree, offer, read_description
from fond_echo.core.telephony.sip.transaction_layer import Output
from fond_echo.core.telephony.sip.values import Hop, parse_address, parse_uri
from fond_echo.demo import run as demo
from fond_echo.softphone.sockets import open_socket
from fond_echo.store.local import free_port

CHANNEL = """\
phone: bench
listen: {{host: 127.0.0.1, port: {port}, media: [40000, 41998]}}
peers: [127.0.0.1]
max_calls: {calls}
call_handling: {{wait_seconds: 60, greetings: 1}}
"""
COUNTS = (20, 40, 60, 80, 120, 160)
SECONDS = 12.0
GREETING = 10.0
AGAIN = 2.0
"""Seconds after which somebody who was refused calls again."""
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

    def send(self, frame: bytes | None = None) -> None:
        if self.place is not None:
            self.number += 1
            head = struct.pack(
                ">BBHII", 0x80, 0, self.number & 0xFFFF, self.number * 160, self.port
            )
            self.rtp.sendto(head + (frame or SILENCE), self.place)

    def lateness(self, since: float, until: float) -> list[float]:
        """Milliseconds of each packet that arrived between two times."""
        if not self.arrivals:
            return []
        first = self.arrivals[0][0]
        offsets = [(at, at - 0.02 * ((n - first) & 0xFFFF)) for n, at in self.arrivals]
        earliest = min(offset for _, offset in offsets)
        return [(offset - earliest) * 1_000 for at, offset in offsets if since <= at < until]


class Callers:
    """Many callers at one signalling socket."""

    def describe(self, call: Call, offered: bytes) -> bytes:
        raise NotImplementedError

    async def begin(self) -> None:
        self.sip, port = await open_socket("127.0.0.1", 0, self.signalled)
        self.endpoint = Endpoint("127.0.0.1", port, self, SystemRandom())
        self.callers: dict[str, Caller] = {}
        self.refused: Counter[int] = Counter()
        self.sending = asyncio.create_task(self.keep_sending())

    async def end(self) -> None:
        self.sending.cancel()
        for call in self.endpoint.open_calls:
            self.done(self.endpoint.hang_up(call, asyncio.get_running_loop().time()))
        await asyncio.sleep(0.5)

    async def run(self, number: str, count: int, rate: float) -> dict[str, list[float]]:
        await self.begin()
        begun = time.perf_counter()
        for place in range(count):
            await asyncio.sleep(max(0.0, begun + place / rate - time.perf_counter()))
            await self.call(number)
        called = time.perf_counter()
        await asyncio.sleep(GREETING + SECONDS)
        ended = time.perf_counter()
        refused = sum(self.refused.values())
        callers = list(self.callers.values())
        # Half as many again want to be let in, each again and again.
        while time.perf_counter() < ended + SECONDS:
            await self.call(number)
            await asyncio.sleep(AGAIN / (count / 2))
        over = time.perf_counter()
        tried = len(self.callers) - count
        kept_out = sum(self.refused.values()) - refused
        await self.end()
        spans = {
            "calling": (begun, called), "settled": (ended - SECONDS, ended), "over": (ended, over),
        }  # fmt: skip
        return {
            "refused": [float(refused)],
            "kept out": [float(kept_out), float(tried)],
            **{name: [late for c in callers for late in c.lateness(*at)]
               for name, at in spans.items()},
        }  # fmt: skip

    def caller(self) -> Caller:
        """One more of them."""
        return Caller()

    async def call(self, number: str) -> None:
        caller = self.caller()
        await caller.open()
        described = offer(Terms("127.0.0.1", caller.port, 1))
        who = parse_address("<sip:bench@127.0.0.1>")
        now = asyncio.get_running_loop().time()
        call, out = self.endpoint.place(parse_uri(number), who, described, now)
        self.callers[call.id] = caller
        self.done(out)

    async def keep_sending(self) -> None:
        loop = asyncio.get_running_loop()
        due = loop.time()
        while True:
            due += 0.02
            await asyncio.sleep(max(0.0, due - loop.time()))
            for caller in list(self.callers.values()):
                caller.send()

    def signalled(self, data: bytes, place: tuple[str, int]) -> None:
        self.done(self.endpoint.receive(data, Hop(*place), asyncio.get_running_loop().time()))

    def done(self, out: Output) -> None:
        for data, hop in out.send:
            self.sip.sendto(data, (hop.host, hop.port))
        for event in out.events:
            if isinstance(event, Ended) and event.status:
                self.refused[event.status] += 1
            if isinstance(event, Answered):
                agreed = agree(read_description(event.call.remote_sdp), Terms("127.0.0.1", 1, 1))
                self.callers[event.call.id].place = agreed.host, agreed.port


def main() -> None:
    if sys.argv[1:2] == ["--call"]:
        number, count, rate = sys.argv[2], int(sys.argv[3]), float(sys.argv[4])
        print(json.dumps(asyncio.run(Callers().run(number, count, rate))))
        return
    chosen = options(__doc__, least=20, most=160, rate=4, limit=500)
    rows = []
    with tempfile.TemporaryDirectory(prefix="fond-echo-bench-") as folder:
        Path(folder).chmod(0o755)
        with demo.world(Path(folder) / "data") as world:
            port = free_port()
            with FondEcho(world.settings.address, world.key) as echo:
                channel = ChannelIn(
                    kind="phone",
                    assistant="harbour-desk",
                    connector=CHANNEL.format(port=port, calls=chosen.limit),
                )
                echo.put_channel("bench", channel)
                while echo.channel("bench").state != "open":
                    time.sleep(0.5)
            for count in (each for each in COUNTS if chosen.least <= each <= chosen.most):
                number = f"sip:bench@127.0.0.1:{port}"
                rate = str(chosen.rate)
                command = [sys.executable, "-m", "bench.pacing", "--call", number, str(count), rate]
                reported = subprocess.run(command, stdout=subprocess.PIPE, check=True).stdout
                found = json.loads(reported)
                row = [count, int(found["refused"][0])]
                for late in (found["calling"], found["settled"], found["over"]):
                    row += figures(late)
                row.append("{:.0f} of {:.0f}".format(*found["kept out"]))
                rows.append(row)
    columns = ("calls", "refused", "calling p50 ms", "p99 ms", "in 5 ms",
               "settled p50 ms", "p99 ms ", "in 5 ms ", "over p50 ms", " p99 ms", " in 5 ms",
               "refused then")  # fmt: skip
    show("how late packets arrive", columns, rows, chosen.json)


def figures(late: list[float]) -> list[str]:
    if not late:
        return ["", "", ""]
    within = sum(each <= 5 for each in late) / len(late)
    return [f"{percentile(late, 0.5):.1f}", f"{percentile(late, 0.99):.1f}", f"{within:.1%}"]


if __name__ == "__main__":
    main()
