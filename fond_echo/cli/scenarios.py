"""scenario: runs scenarios of calls through a carrier."""

from __future__ import annotations

import argparse
import asyncio
import os
from pathlib import Path
from typing import Any


def add(commands: Any) -> None:
    scenario = commands.add_parser("scenario", help="run scenarios of calls")
    verbs = scenario.add_subparsers(dest="verb", required=True, metavar="VERB")
    run = verbs.add_parser(
        "run", help="call through a carrier as a scenario says, and check what is heard"
    )
    run.add_argument("files", nargs="+", type=Path, help="scenario files")
    run.add_argument(
        "--carrier", default="127.0.0.1:5090", metavar="HOST:PORT", help="(127.0.0.1:5090)"
    )
    run.add_argument(
        "--password", default=os.environ.get("CARRIER_PASS", ""), help="or CARRIER_PASS"
    )
    run.set_defaults(run=_run)


def _run(options: argparse.Namespace) -> int:
    from fond_echo.core.synthesis.synthesizer import Synthesizer
    from fond_echo.core.telephony.sip.values import Hop
    from fond_echo.speech.material import lexicon, recognizer
    from fond_echo.standins.carrier.scenario import Play, read_scenario
    from fond_echo.standins.carrier.voices import ALL

    host, _, port = options.carrier.rpartition(":")
    found = [(path, read_scenario(path)) for path in options.files]
    voice, engine = Synthesizer(lexicon(), ALL), recognizer()
    passed = 0
    for path, scenario in found:
        play = Play(
            scenario, Hop(host, int(port)), options.password, voice, engine, say,
            path.parent,
        )  # fmt: skip
        passed += asyncio.run(play.run())
    print(f"{passed} of {len(found)} scenarios passed")
    return 0 if passed == len(found) else 1


def say(line: str) -> None:
    print(line, flush=True)
