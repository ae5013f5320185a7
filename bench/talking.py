"""Calls as they are: people who talk a quarter of the time, recorded, and four more a second
ringing.

The demo runs as for a person, with one more phone channel that records. A process of its own calls
it, four times a second, until so many calls are there; every caller says "How much is a ticket?"
every eight seconds, each at their own time, for four rounds, while somebody else rings four times a
second and is refused. How late a packet of ours is is taken against the earliest of its call.
"After the question" is the time from the last packet of a question to the first one of an answer.
The loop is what the media process says of its own slots of 2 ms.

    python -m bench.talking --calls 20
"""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.pacing import SILENCE, Caller, Callers
from bench.report import options, percentile, show
from fond_echo.client import FondEcho
from fond_echo.contract.api import ChannelIn
from fond_echo.core.audio.clip import join
from fond_echo.core.telephony.media.g711 import in_law
from fond_echo.demo import run as demo
from fond_echo.speech.material import synthesizer
from fond_echo.store.local import free_port

CHANNEL = """\
phone: bench
listen: {{host: 127.0.0.1, port: {port}, media: [40000, 41998]}}
peers: [127.0.0.1]
max_calls: {calls}
call_handling: {{wait_seconds: 60, greetings: 1, record: {record}}}
"""
EVERY = 400
"""Frames between two questions: eight seconds."""

ROUNDS = 4
GREETING = 12.0
RINGING = 4.0
"""More calls a second."""


class Talker(Caller):
    """Asks again and again, and notes when it is answered."""

    def __init__(self, question: list[bytes], first: int) -> None:
        super().__init__()
        self.question, self.at = question, -first
        self.asked_at: float | None = None
        self.waits: list[float] = []

    def heard(self, data: bytes, place: tuple[str, int]) -> None:
        super().heard(data, place)
        if self.asked_at is not None and data[12:] != SILENCE:
            self.waits.append(time.perf_counter() - self.asked_at)
            self.asked_at = None

    def send(self, frame: bytes | None = None) -> None:
        self.at += self.place is not None
        now = self.at - GREETING * 50
        rounds, place = divmod(now, EVERY)
        if not 0 <= rounds < ROUNDS or place >= len(self.question):
            return super().send(frame)
        super().send(self.question[int(place)])
        if place == len(self.question) - 1:
            self.asked_at = time.perf_counter()


class Talkers(Callers):
    """Calls, talks, and lets others ring."""

    def __init__(self, question: list[bytes]) -> None:
        self.question = question

    def caller(self) -> Caller:
        return Talker(self.question, len(self.callers) * 37 % EVERY)

    async def talk(self, number: str, count: int, rate: float) -> dict[str, list[float]]:
        await self.begin()
        begun = time.perf_counter()
        for place in range(count):
            await asyncio.sleep(max(0.0, begun + place / rate - time.perf_counter()))
            await self.call(number)
        talkers = list(self.callers.values())
        await asyncio.sleep(GREETING)
        since = time.perf_counter()
        until = since + ROUNDS * EVERY / 50 + 4.0
        rang = 0
        while time.perf_counter() < until:
            await self.call(number)
            rang += 1
            await asyncio.sleep(1 / RINGING)
        refused = sum(self.refused.values())
        answers = [each for t in talkers if isinstance(t, Talker) for each in t.waits]
        late = [each for t in talkers for each in t.lateness(since, until)]
        await self.end()
        return {"late": late, "answers": answers, "rang": [float(rang), float(refused)]}


def stage_times(echo: FondEcho) -> list[tuple[str, str]]:
    """Milliseconds of each stage of what was said, half of them and 95 in 100."""
    times: dict[str, list[float]] = {}
    for turn in echo.turns(channel="bench", limit=100).items:
        if turn.arrived_as == "speech":
            detail = echo.turn(turn.id)
            for stage in detail.runs[0].stages if detail.runs else ():
                times.setdefault(stage.name, []).append(1_000 * stage.seconds)
    return [
        (f"{name}, p50 / p95 ms", f"{percentile(found, 0.5):.0f} / {percentile(found, 0.95):.0f}")
        for name, found in times.items()
    ]


def main() -> None:
    if sys.argv[1:2] == ["--call"]:
        number, count, rate, file = sys.argv[2], int(sys.argv[3]), float(sys.argv[4]), sys.argv[5]
        data = Path(file).read_bytes()
        frames = [data[at : at + 160] for at in range(0, len(data) - 159, 160)]
        print(json.dumps(asyncio.run(Talkers(frames).talk(number, count, rate))))
        return
    chosen = options(__doc__, calls=20, rate=4, silent=0)
    with tempfile.TemporaryDirectory(prefix="fond-echo-bench-") as folder:
        Path(folder).chmod(0o755)
        spoken = synthesizer().speak("How much is a ticket?", "tern")
        question = Path(folder) / "question.ulaw"
        question.write_bytes(in_law(join([part.clip for part in spoken]), "PCMU"))
        with demo.world(Path(folder) / "data") as world:
            port = free_port()
            with FondEcho(world.settings.address, world.key) as echo:
                text = CHANNEL.format(port=port, calls=chosen.calls, record="true")
                echo.put_channel(
                    "bench", ChannelIn(kind="phone", assistant="harbour-desk", connector=text)
                )
                while echo.channel("bench").state != "open":
                    time.sleep(0.5)
                time.sleep(10.0)
                number = f"sip:bench@127.0.0.1:{port}"
                command = [
                    sys.executable, "-m", "bench.talking", "--call", number, str(chosen.calls),
                    str(chosen.rate), str(question),
                ]  # fmt: skip
                reported = subprocess.run(command, stdout=subprocess.PIPE, check=True).stdout
                found = json.loads(reported)
                loop = echo.channel("bench").facts.get("loop", {})
                stages = stage_times(echo)
    late, answers = found["late"], found["answers"]
    rows = [
        ("packets late, p50 / p99 / p99.9 ms",
         " / ".join(f"{percentile(late, each):.1f}" for each in (0.5, 0.99, 0.999))),
        ("after the question, p50 / p95 ms",
         " / ".join(f"{1_000 * percentile(answers, each):.0f}" for each in (0.5, 0.95))),
        ("questions answered", f"{len(answers)} of {chosen.calls * ROUNDS}"),
        ("rang meanwhile, refused", "{:.0f}, {:.0f}".format(*found["rang"])),
        ("slots of the loop late, p99 / p99.9 ms",
         f"{loop.get('late_ms_p99')} / {loop.get('late_ms_p999')}"),
        *stages,
        ("load of the media process", f"{loop.get('load')}"),
    ]  # fmt: skip
    show(f"{chosen.calls} calls, talking and recorded", ("measured", "value"), rows, chosen.json)


if __name__ == "__main__":
    main()
