"""turn follow: what comes in and what is done about it, as it happens."""

from __future__ import annotations

import argparse
import json
from typing import Any

from fond_echo.cli.events import happening
from fond_echo.cli.output import add_service, service
from fond_echo.cli.stages import says
from fond_echo.contract.api import TurnDetail

ENDS = ("turn.answered", "turn.failed", "turn.cancelled")
SHOWN = ("turn.stage", *ENDS)


def add(verbs: Any) -> None:
    follow = verbs.add_parser("follow", help="print turns stage by stage as they happen")
    follow.add_argument("--channel", default="", help="only on this channel")
    follow.add_argument("--draft", action="store_true", help="only testers' turns")
    follow.add_argument("--count", type=int, default=0, help="stop after so many turns")
    add_service(follow)
    follow.set_defaults(run=_follow)


def _follow(options: argparse.Namespace) -> int:
    printed: dict[str, int] = {}
    ended = 0
    with service(options) as echo:
        for event in happening(options):
            kind, turn_id = event["type"].removeprefix("fond-echo."), event["subject"]
            if kind not in SHOWN or (options.draft and not event["data"].get("draft")):
                continue
            turn = echo.turn(turn_id)
            if options.json:
                if kind in ENDS:
                    print(json.dumps(turn.model_dump(mode="json"), ensure_ascii=False), flush=True)
            else:
                _print(turn, printed, over=kind in ENDS)
            ended += kind in ENDS
            if options.count and ended >= options.count:
                return 0
    return 0


def _print(turn: TurnDetail, printed: dict[str, int], *, over: bool) -> None:
    """Print what is new of a turn.

    Args:
        printed: how many stages of each turn were printed; one that is over is taken out.
    """
    if turn.id not in printed:
        printed[turn.id] = 0
        what = f"{turn.arrived_as}{', draft' * turn.draft}  ({turn.id[-12:]})  {turn.text}"
        print(f"{turn.received_at:%H:%M:%S}  {turn.contact_name} on {turn.channel}, {what}")
    stages = turn.runs[-1].stages if turn.runs else []
    for stage in stages[printed[turn.id] :]:
        if stage.name != "receive":
            print(f"    {stage.name:<10} {stage.seconds * 1_000:>7.1f} ms  {says(stage)}")
    printed[turn.id] = len(stages)
    if over:
        for delivery in turn.deliveries:
            print(f"    → {delivery.kind:<8} {delivery.text}  [{delivery.state}]")
        if turn.error:
            print(f"    failed: {turn.error['what']}")
        del printed[turn.id]
    print(end="", flush=True)
