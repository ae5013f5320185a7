"""How soon a call is answered, and how soon a caller who has spoken is.

The whole demo runs as for a person, on this machine; a handset calls its telephone directly. From
the answer (the 200 that came) to the first packet of the greeting; from the last sound of what the
caller says to the first sound of the answer, as the caller hears it: end-pointing, hearing,
routing, the business logic and speaking are all in it. What was said is what the routes are about,
in a voice that is none of ours.

    python -m bench.answering
"""

from __future__ import annotations

import asyncio
import tempfile
import time
from collections import defaultdict
from pathlib import Path

import numpy as np

from bench.report import options, percentile, show
from fond_echo.client import FondEcho
from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.synthesis.synthesizer import Synthesizer
from fond_echo.demo import run as demo
from fond_echo.softphone.handset import QUIET, Handset, handset
from fond_echo.speech.material import lexicon
from fond_echo.standins.carrier.voices import CALLERS

QUESTIONS = (
    "When is the next boat to Brannick?", "How much is a ticket?", "Are the boats running today?",
    "What boats are there today?", "I lost my umbrella.", "When is the next boat to Pell?",
)  # fmt: skip
QUIET_FRAMES = 50


async def first_packet(caller: Handset, number: str) -> float:
    """Milliseconds from the answer to the first packet."""
    dialling = asyncio.create_task(caller.dial(number))
    await caller.answered.wait()
    begun = time.perf_counter()
    stream = caller.stream
    while stream is not None and stream.heard_at is None:  # noqa: ASYNC110  # it has no event
        await asyncio.sleep(0.0005)
    await dialling
    return (time.perf_counter() - begun) * 1_000


async def answer_time(caller: Handset, clip: Clip) -> float:
    """Milliseconds from the end of what is said to the first sound that comes after it."""
    loud = np.nonzero(np.abs(clip.samples) > 0.02)[0]
    said = Clip(clip.samples[: loud[-1] + 1], clip.rate)
    await caller.say(said)
    ended = time.perf_counter()
    seen = caller.heard.count
    while time.perf_counter() - ended < 15.0:
        await asyncio.sleep(0.002)
        for frame in caller.heard.since(seen):
            if float(np.sqrt(np.mean(frame.astype(np.float32) ** 2))) > QUIET:
                return (time.perf_counter() - ended) * 1_000
        seen = caller.heard.count
    return float("nan")


async def still(caller: Handset) -> None:
    """Until nothing has been said for a second."""
    quiet, seen = 0, caller.heard.count
    while quiet < QUIET_FRAMES and not caller.over.is_set():
        await asyncio.sleep(0.02)
        for frame in caller.heard.since(seen):
            loud = float(np.sqrt(np.mean(frame.astype(np.float32) ** 2))) > QUIET
            quiet = 0 if loud else quiet + 1
        seen = caller.heard.count


async def run(number: str, calls: int) -> tuple[list[float], list[float]]:
    synthesis = Synthesizer(lexicon(), CALLERS)
    voices = list(CALLERS)
    greeted, answered = [], []
    for turn in range(calls):
        voice = voices[turn % len(voices)]
        async with handset(voice) as caller:
            greeted.append(await first_packet(caller, number))
            await still(caller)
            for question in QUESTIONS:
                clip = join([part.clip for part in synthesis.speak(question, voice)])
                answered.append(await answer_time(caller, clip))
                await still(caller)
    return greeted, answered


def main() -> None:
    chosen = options(__doc__, calls=6)
    with tempfile.TemporaryDirectory(prefix="fond-echo-bench-") as folder:
        Path(folder).chmod(0o755)
        with demo.world(Path(folder) / "data") as world:
            number = f"sip:2001@127.0.0.1:{world.places.phone}"
            asyncio.run(run(number, 1))
            greeted, answered = asyncio.run(run(number, chosen.calls))
            stages: dict[str, list[float]] = defaultdict(list)
            with FondEcho(world.settings.address, world.key) as echo:
                for each in echo.turns(channel="exchange", limit=min(200, len(answered))).items:
                    if each.arrived_as == "speech":
                        for stage in echo.turn(each.id).runs[0].stages:
                            stages[stage.name].append(stage.seconds * 1_000)
    rows = [
        ("answer to the first packet", len(greeted), *percentiles(greeted)),
        ("end of speech to the answer", len(answered), *percentiles(answered)),
        *((f"  of it {name}", len(found), *percentiles(found)) for name, found in stages.items()),
    ]
    columns = ("", "measured", "p50 ms", "p95 ms")
    show("how soon a caller is answered", columns, rows, chosen.json)


def percentiles(values: list[float]) -> tuple[str, str]:
    known = [each for each in values if each == each]  # noqa: PLR0124  # those that are numbers
    return f"{percentile(known, 0.5):.0f}", f"{percentile(known, 0.95):.0f}"


if __name__ == "__main__":
    main()
