"""Replays: how many past turns a second are taken again on a draft, and what one takes beside the
stages that were recorded.

The whole demo runs on this machine; programs ask its assistant by text, one question of five goes
to business logic. Then the draft is changed in one line, and all turns are replayed on it, page by
page.

    python -m bench.replays [--turns 1000]
"""

from __future__ import annotations

import asyncio
import time

import httpx

from bench.passengers import running
from bench.report import options, percentile, show
from fond_echo.client import FondEcho
from fond_echo.contract.replay import ReplayOut, ReplaysIn

QUESTIONS = (
    "How much is a ticket?", "When is the next boat to Pell?", "I lost my umbrella.",
    "are the boats runing today", "My sister plays the violin",
)  # fmt: skip
AT_ONCE = 16
NAME = "harbour-desk"


async def ask(address: str, key: str, count: int) -> None:
    limit = asyncio.Semaphore(AT_ONCE)
    headers = {"Authorization": f"Bearer {key}"}
    async with httpx.AsyncClient(base_url=address, headers=headers, timeout=60.0) as client:

        async def one(number: int) -> None:
            async with limit:
                body = {"text": QUESTIONS[number % 5], "contact": f"guest-{number % 40}"}
                (await client.post("/ask/desk", json=body)).raise_for_status()

        await asyncio.gather(*(one(number) for number in range(count)))


def replayed(echo: FondEcho, count: int) -> tuple[list[ReplayOut], float]:
    """All turns, replayed, and how long that took."""
    found: list[ReplayOut] = []
    cursor, begun = "", time.monotonic()
    while len(found) < count:
        page = echo.replay_turns(NAME, ReplaysIn(channel="desk", cursor=cursor, limit=100))
        found += page.items
        cursor = page.cursor
        if not cursor:
            break
    return found, time.monotonic() - begun


def main() -> None:
    chosen = options(__doc__, turns=1_000)
    with running() as world, FondEcho(world.world.settings.address, world.world.key) as echo:
        asyncio.run(ask(world.world.settings.address, world.world.key, chosen.turns))
        draft = echo.draft(NAME)
        main_file = draft.files["assistant.yaml"].replace("four pounds", "five pounds")
        echo.put_assistant(NAME, {**draft.files, "assistant.yaml": main_file}, draft.revision)
        found, seconds = replayed(echo, chosen.turns)
        recorded = []
        for each in found[:50]:
            stages = echo.turn(each.turn).runs[0].stages
            recorded.append(
                1_000 * sum(stage.seconds for stage in stages if stage.name in ("route", "answer"))
            )
    taken = [each.after.milliseconds for each in found]
    rows = [
        ("turns replayed", str(len(found))),
        ("of them different", str(sum(bool(each.changed) for each in found))),
        ("turns a second, one at a time", f"{len(found) / seconds:.0f}"),
        ("a replay in all, ms", f"{1_000 * seconds / len(found):.1f}"),
        ("of it route and answer, ms, p50 / p95",
         f"{percentile(taken, 0.5):.1f} / {percentile(taken, 0.95):.1f}"),
        ("route and answer as recorded, ms, p50 / p95",
         f"{percentile(recorded, 0.5):.1f} / {percentile(recorded, 0.95):.1f}"),
    ]  # fmt: skip
    show("past turns on a draft", ("measured", "value"), rows, chosen.json)


if __name__ == "__main__":
    main()
