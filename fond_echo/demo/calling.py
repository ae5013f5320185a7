"""The tour's telephone: a passenger who calls, one who is called, and a loudspeaker that is called,
all at once while the rest of the tour goes on."""

from __future__ import annotations

import asyncio
import threading
import time
from importlib import resources
from importlib.resources.abc import Traversable
from typing import TYPE_CHECKING

from fond_echo.client import FondEcho
from fond_echo.contract.call import CallDetail, CallIn, Opening
from fond_echo.core.synthesis.synthesizer import Synthesizer
from fond_echo.core.telephony.sip.values import Hop
from fond_echo.documents.scenario import read_scenario_file
from fond_echo.scenarios.by_phone import PhonePlay
from fond_echo.speech.material import lexicon, recognizer
from fond_echo.standins.carrier.voices import ALL

if TYPE_CHECKING:
    from fond_echo.demo.run import World

CONNECTED_SECONDS = 60.0
TRIES = 3
"""A machine that has more to do than it can breaks calls up: what was not right is played again."""

BEFORE_CALLING = 3.0
"""Seconds until the people who are to be called are there."""

ORDERS = {
    "bicycle": None,
    "talk": None,
    "gale": (
        "gale-phone",
        CallIn(
            to="01632 960102", opening=Opening(assistant="gale-line"), name="Piet Oduya",
            variables={"sailing": "S-14"},
        ),
    ),
    "announcement": (
        "exchange",
        CallIn(
            to="01632 960109",
            opening=Opening(text="The Guillemot leaves from the north pier today."),
        ),
    ),
}  # fmt: skip
"""The scenarios, and the call that the service places for each."""


class Calling(threading.Thread):
    """Plays the demo's calls.

    Attributes:
        lines: what there is to tell of each.
        problems: what was not as it should be.
        calls: those that were placed, as they ended.
    """

    def __init__(self, world: World) -> None:
        super().__init__(daemon=True)
        self._world = world
        self.lines: dict[str, list[str]] = {name: [] for name in ORDERS}
        self.problems: list[str] = []
        self.calls: list[CallDetail] = []

    def run(self) -> None:
        try:
            asyncio.run(self._all())
        except Exception as error:
            self.problems.append(f"the telephone: {type(error).__name__}: {error}")

    async def _all(self) -> None:
        folder = resources.files("fond_echo.demo") / "calls"
        self._carrier = Hop("127.0.0.1", self._world.places.carrier)
        self._synthesizer = await asyncio.to_thread(lambda: Synthesizer(lexicon(), ALL))
        self._recognizer = await asyncio.to_thread(recognizer)
        await asyncio.to_thread(self._until_connected)
        await asyncio.gather(*(self._play(name, folder) for name in ORDERS))

    def _until_connected(self) -> None:
        """The carrier knows no number of ours before the phone channels have registered."""
        until = time.monotonic() + CONNECTED_SECONDS
        with FondEcho(self._world.settings.address, self._world.key) as echo:
            while time.monotonic() < until:
                states = [echo.channel(name).state for name in ("exchange", "gale-phone")]
                if states == ["connected", "connected"]:
                    return
                time.sleep(0.3)
        self.problems.append(f"the phone channels are {' and '.join(states)}")

    async def _play(self, name: str, folder: Traversable) -> None:
        """A scenario, with the call that belongs to it; again where it was not right."""
        scenario = read_scenario_file((folder / f"{name}.yaml").read_text("utf-8"), f"{name}.yaml")
        problems: list[str] = []
        for _ in range(TRIES):
            play = PhonePlay(
                scenario, self._carrier, self._world.places.carrier_pass, self._synthesizer,
                self._recognizer,
                self.lines[name].append,
            )  # fmt: skip
            _, problem = await asyncio.gather(play.run(), self._place(name))
            problems = [*play.problems, *problem]
            if not problems:
                return
        self.problems += [f"{scenario.scenario}: {problem}" for problem in problems]

    async def _place(self, name: str) -> list[str]:
        """Ask the service for a call, and see what becomes of it; gives what is wrong with that."""
        order = ORDERS[name]
        if order is None:
            return []
        await asyncio.sleep(BEFORE_CALLING)
        settings = self._world.settings
        with FondEcho(settings.address, self._world.key) as echo:
            call = echo.place_call(*order)
            for _ in range(600):
                await asyncio.sleep(0.2)
                call = await asyncio.to_thread(echo.call, call.id)
                if call.state == "ended":
                    break
        self.calls.append(call)
        if call.answered_at is None or call.state != "ended":
            return [f"the call to {call.number} is {call.state}: {call.cause}"]
        return []
