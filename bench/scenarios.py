"""A scenario of so many exchanges, played in a chat and in a call: how long that takes, beside how
long it would have lasted.

    python -m bench.scenarios --exchanges 30
"""

from __future__ import annotations

import asyncio
import time

from bench.report import options, show
from fond_echo.cli.scenarios import around
from fond_echo.demo.world import files_of
from fond_echo.documents.digest import digest
from fond_echo.documents.reading import read_assistant
from fond_echo.documents.scenario import ScenarioFile, both
from fond_echo.scenarios.playing import play

SAID = (
    "How much is a ticket?", "I lost my umbrella.", "What does it cost to cross?",
    "What does the ferry's horn sound like?", "What are the fares?",
)  # fmt: skip


async def measured(exchanges: int) -> list[tuple[object, ...]]:
    files = files_of("harbour-desk")
    assistant = read_assistant(files)
    steps = [{"says": SAID[n % len(SAID)]} for n in range(exchanges)]
    scenario = ScenarioFile.model_validate({"scenario": "many exchanges", "steps": steps})
    here, rows = around("en"), []
    await play(scenario, "chat", assistant, digest(files), here)  # all is loaded and spoken once
    for where in both():
        begun = time.perf_counter()
        played = await play(scenario, where, assistant, digest(files), here)
        spent = time.perf_counter() - begun
        lasted = f"{played.seconds:,.0f}" if where == "phone" else ""
        rows.append((where, exchanges, f"{spent:.1f}", lasted, len(played.failures)))
    return rows


def main() -> None:
    chosen = options(__doc__, exchanges=30)
    rows = asyncio.run(measured(chosen.exchanges))
    columns = ("on", "exchanges", "seconds", "of the scenario's clock", "failures")
    show("a scenario, its time simulated", columns, rows, chosen.json)


if __name__ == "__main__":
    main()
