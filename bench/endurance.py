"""Whether memory grows: so many calls for so many minutes.

The demo runs as for a person, with one more phone channel. A process of its own holds the calls; in
each, a passenger asks when the next boat leaves, about every 25 seconds, and is answered with the
built-in recognizer and synthesizer. The memory that each process of the service holds (resident,
less what is shared) is read every half minute; what it grows by is the slope of a line through the
second half.

    python -m bench.endurance [--calls 20] [--minutes 10]
"""

from __future__ import annotations

import asyncio
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from bench.pacing import CHANNEL, Callers
from bench.report import options, show
from fond_echo.client import FondEcho
from fond_echo.contract.api import ChannelIn, Page, TurnOut
from fond_echo.core.audio.clip import join
from fond_echo.core.telephony.media.g711 import in_law
from fond_echo.demo import run as demo
from fond_echo.speech.material import synthesizer
from fond_echo.store.local import free_port

QUESTION = "When is the next boat to Pell?"
EVERY_FRAMES = 1_250
PARTS = ("phone", "work", "web", "speech")
LOOK_SECONDS = 30.0


class Asking(Callers):
    """Callers who ask again and again, each at another moment."""

    async def keep_sending(self) -> None:
        parts = synthesizer().speak(QUESTION, "dunlin")
        said = in_law(join([part.clip for part in parts]), "PCMU")
        frames = [said[at : at + 160] for at in range(0, len(said) - 159, 160)]
        loop = asyncio.get_running_loop()
        due, number = loop.time(), 0
        while True:
            due += 0.02
            number += 1
            await asyncio.sleep(max(0.0, due - loop.time()))
            for place, caller in enumerate(list(self.callers.values())):
                at = (number + place * 61) % EVERY_FRAMES
                caller.send(frames[at] if at < len(frames) else None)
                caller.arrivals.clear()


def held(part: str) -> float:
    """Megabytes that the processes of a part hold for themselves."""
    found = subprocess.run(
        ["pgrep", "-f", f"fond_echo.cli {part}"], capture_output=True, text=True, check=False
    )
    total = 0.0
    for process in found.stdout.split():
        for child in [process, *_children(process)]:
            total += _private(child)
    return total


def _children(process: str) -> list[str]:
    found = subprocess.run(["pgrep", "-P", process], capture_output=True, text=True, check=False)
    return [each for child in found.stdout.split() for each in (child, *_children(child))]


def _private(process: str) -> float:
    try:
        reported = Path(f"/proc/{process}/smaps_rollup").read_text()
    except OSError:
        return 0.0
    return sum(int(line.split()[1]) for line in reported.splitlines() if "Private" in line) / 1_024


async def hold(number: str, count: int, minutes: float) -> None:
    callers = Asking()
    await callers.begin()
    for _ in range(count):
        await callers.call(number)
        await asyncio.sleep(0.5)
    await asyncio.sleep(minutes * 60)
    await callers.end()
    print(f"{len(callers.endpoint.open_calls)} calls were still there at the end", file=sys.stderr)


def pages_of(echo: FondEcho) -> Iterator[Page[TurnOut]]:
    """All turns of the channel."""
    after = ""
    while True:
        page = echo.turns(channel="bench", limit=200, cursor=after)
        yield page
        if not page.next:
            return
        after = page.next


def main() -> None:
    if sys.argv[1:2] == ["--hold"]:
        asyncio.run(hold(sys.argv[2], int(sys.argv[3]), float(sys.argv[4])))
        return
    chosen = options(__doc__, calls=20, minutes=10)
    with tempfile.TemporaryDirectory(prefix="fond-echo-bench-") as folder:
        Path(folder).chmod(0o755)
        with demo.world(Path(folder) / "data") as world:
            port = free_port()
            connector = CHANNEL.format(port=port, calls=500)
            with FondEcho(world.settings.address, world.key) as echo:
                channel = ChannelIn(kind="phone", assistant="harbour-desk", connector=connector)
                echo.put_channel("bench", channel)
                while echo.channel("bench").state != "open":
                    time.sleep(0.5)
                command = [sys.executable, "-m", "bench.endurance", "--hold",
                           f"sip:bench@127.0.0.1:{port}", str(chosen.calls),
                           str(chosen.minutes)]  # fmt: skip
                holding = subprocess.Popen(command)
                seen: dict[str, list[float]] = {part: [] for part in PARTS}
                while holding.poll() is None:
                    for part in PARTS:
                        seen[part].append(held(part))
                    time.sleep(LOOK_SECONDS)
                turns = sum(len(page.items) for page in pages_of(echo))
    rows = []
    for part, values in seen.items():
        later = np.array(values[len(values) // 2 :])
        slope = np.polyfit(np.arange(len(later)) * LOOK_SECONDS / 60, later, 1)[0]
        rows.append(
            (part, f"{values[1]:.1f}", f"{later[0]:.1f}", f"{later[-1]:.1f}", f"{slope:+.2f}")
        )
    columns = ("process", "MB at first", "MB half-way", "MB at the end", "MB a minute, second half")
    show(
        f"{chosen.calls} calls for {chosen.minutes} min, {turns} turns", columns, rows, chosen.json
    )


if __name__ == "__main__":
    main()
