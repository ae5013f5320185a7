"""A scene of the tour: the demo's four scenarios, as chats and as calls, in simulated time."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable

from fond_echo.cli.scenarios import around
from fond_echo.demo.world import ASSISTANT, files_of
from fond_echo.documents.digest import digest
from fond_echo.documents.reading import read_assistant
from fond_echo.documents.scenario import read_scenarios
from fond_echo.scenarios.playing import play
from fond_echo.scenarios.simulated import Around


def rehearsed(say: Callable[[str], None], problem: Callable[[str], None]) -> None:
    """Play them.

    Args:
        say: where lines go.
        problem: takes each thing that went wrong.
    """
    asyncio.run(_played(say, problem, around("en")))


async def _played(say: Callable[[str], None], problem: Callable[[str], None], here: Around) -> None:
    files = files_of(ASSISTANT)
    assistant = read_assistant(files)
    for scenario in read_scenarios(files).values():
        for where in scenario.on:
            begun = time.monotonic()
            found = await play(scenario, where, assistant, digest(files), here)
            lasted = f", {found.seconds:,.0f} s of its own" if where == "phone" else ""
            verdict = "as it should be" if not found.failures else found.failures[0]
            say(f"   {scenario.scenario}, {where}: {len(found.steps)} steps in"
                f" {time.monotonic() - begun:.1f} s{lasted}: {verdict}")  # fmt: skip
            if found.failures:
                problem(f"{scenario.scenario}, {where}: {'; '.join(found.failures)}")
