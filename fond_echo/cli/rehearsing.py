"""rehearse: plays scenarios of calls through a carrier."""

from __future__ import annotations

import argparse
import asyncio
import os
from pathlib import Path
from typing import Any


def add(commands: Any) -> None:
    rehearse = commands.add_parser(
        "rehearse", help="play scenarios of calls through a carrier, and check what is heard"
    )
    rehearse.add_argument("files", nargs="+", type=Path, help="scenario files")
    rehearse.add_argument(
        "--carrier", default="127.0.0.1:5090", metavar="HOST:PORT", help="(127.0.0.1:5090)"
    )
    rehearse.add_argument(
        "--password", default=os.environ.get("CARRIER_PASS", ""), help="or CARRIER_PASS"
    )
    rehearse.set_defaults(run=_rehearse)


def _rehearse(options: argparse.Namespace) -> int:
    from fond_echo.core.synthesis.synthesizer import Synthesizer
    from fond_echo.core.telephony.values import Hop
    from fond_echo.speech.material import lexicon, recogniser
    from fond_echo.standins.carrier.scenario import Play, read_scenario
    from fond_echo.standins.carrier.voices import ALL

    host, _, port = options.carrier.rpartition(":")
    found = [(path, read_scenario(path)) for path in options.files]
    mouth, ear = Synthesizer(lexicon(), ALL), recogniser()
    right = 0
    for path, scenario in found:
        play = Play(scenario, Hop(host, int(port)), options.password, mouth, ear, say, path.parent)
        right += asyncio.run(play.run())
    print(f"{right} of {len(found)} as they should be")
    return 0 if right == len(found) else 1


def say(line: str) -> None:
    print(line, flush=True)
