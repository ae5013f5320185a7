"""A provider that is down for a minute, while questions go on coming.

The whole demo runs on this machine. Programs ask the assistant with outside engines twenty times a
second, by text; its first language engine then answers 500 for a minute, and works again. It is
told who answered, how long that took, when the first engine was left alone, and when it was asked
again.

    python -m bench.outage [--rate 20] [--outage 60]
"""

from __future__ import annotations

import asyncio
import time
from dataclasses import dataclass, field

import httpx

from bench.passengers import running
from bench.report import options, percentile, show
from fond_echo.client import AsyncFondEcho
from fond_echo.demo.outside import CHANNEL

QUESTION = "How many dogs sail on the Old Dunlin?"
BEFORE, AFTER = 10.0, 30.0
FIRST = "harbour-mind"
PEOPLE = 40


@dataclass
class Asked:
    """A question: when it was asked, how long its answer took, and its turn."""

    at: float
    seconds: float = 0.0
    turn: str = ""
    answer: str = ""


@dataclass
class Run:
    """All questions, and when the provider failed and worked again."""

    asked: list[Asked] = field(default_factory=list)
    failed_at: float = 0.0
    worked_at: float = 0.0


async def ask(client: httpx.AsyncClient, key: str, one: Asked, number: int) -> None:
    body = {"text": QUESTION, "contact": f"guest-{number % PEOPLE}"}
    headers = {"Authorization": f"Bearer {key}"}
    answer = await client.post(f"/ask/{CHANNEL}", json=body, headers=headers)
    one.seconds = time.monotonic() - one.at
    if answer.status_code == 200:
        found = answer.json()
        one.turn, one.answer = found["turn"], str(found.get("answer", ""))


async def drive(address: str, key: str, engines: str, rate: float, outage: float) -> Run:
    """Ask at a rate, whatever the answers do; and switch the fault on and off."""
    run, tasks = Run(), []
    limits = httpx.Limits(max_connections=200)
    async with httpx.AsyncClient(
        base_url=address, timeout=60, trust_env=False, limits=limits
    ) as client:
        begun = time.monotonic()
        number = 0
        while (now := time.monotonic()) - begun < BEFORE + outage + AFTER:
            if not run.failed_at and now - begun >= BEFORE:
                await client.put(f"{engines}/faults", json={"path": "/thoughts", "fault": "broken"})
                run.failed_at = time.monotonic()
            if not run.worked_at and now - begun >= BEFORE + outage:
                await client.put(f"{engines}/faults", json={"path": "/thoughts"})
                run.worked_at = time.monotonic()
            one = Asked(time.monotonic())
            run.asked.append(one)
            tasks.append(asyncio.create_task(ask(client, key, one, number)))
            number += 1
            await asyncio.sleep(max(0.0, begun + number / rate - time.monotonic()))
        await asyncio.gather(*tasks)
    return run


async def outcomes(address: str, key: str, run: Run) -> dict[str, list[tuple[str, str]]]:
    """Of each turn: engine and outcome, in order."""
    found: dict[str, list[tuple[str, str]]] = {}
    async with AsyncFondEcho(address, key) as echo:
        for one in run.asked:
            if one.turn:
                turn = await echo.turn(one.turn)
                found[one.turn] = [
                    (each["engine"], each["outcome"])
                    for stage in turn.runs[0].stages
                    if stage.name == "answer"
                    for each in stage.output.get("asked", [])
                ]
    return found


def first(run: Run, found: dict[str, list[tuple[str, str]]], wanted: str, since: float) -> float:
    """Seconds from a moment to the first question of which the first engine's outcome was so."""
    for one in run.asked:
        if one.at >= since and (FIRST, wanted) in found.get(one.turn, []):
            return one.at + one.seconds - since
    return float("nan")


def main() -> None:
    chosen = options(__doc__, rate=20, outage=60)
    with running() as world:
        settings, key = world.world.settings, world.world.key
        engines = world.world.places.engines
        run = asyncio.run(
            drive(settings.address, key, engines, float(chosen.rate), float(chosen.outage))
        )
        found = asyncio.run(outcomes(settings.address, key, run))
    rows = []
    for name, least, most in (
        ("before", 0.0, run.failed_at),
        ("down", run.failed_at, run.worked_at),
        ("after", run.worked_at, float("inf")),
    ):
        those = [each for each in run.asked if least <= each.at < most]
        right = sum("Two at most" in each.answer for each in those)
        by_first = sum((FIRST, "done") in found.get(each.turn, []) for each in those)
        failed = sum((FIRST, "failed") in found.get(each.turn, []) for each in those)
        waits = [1_000 * each.seconds for each in those]
        rows.append(
            (name, len(those), right, by_first, failed, *(round(percentile(waits, share))
             for share in (0.5, 0.95)))
        )  # fmt: skip
    columns = ("", "asked", "answered right", "by the first", "first failed", "p50 ms", "p95 ms")
    show(f"{chosen.rate} questions a second, the first engine down for {chosen.outage} s", columns,
         rows, chosen.json)  # fmt: skip
    print(
        f"left alone {first(run, found, 'left-alone', run.failed_at):.2f} s after it failed,"
        f" answering again {first(run, found, 'done', run.worked_at):.2f} s after it worked"
    )


if __name__ == "__main__":
    main()
