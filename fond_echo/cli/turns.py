"""turn list, follow, show, retry and fail."""

from __future__ import annotations

import argparse
from typing import Any, get_args

from fond_echo.cli import explaining, following, replaying
from fond_echo.cli.output import add_service, bar, print_json, service, table
from fond_echo.cli.stages import says
from fond_echo.contract.api import TurnDetail
from fond_echo.contract.base import JsonObject
from fond_echo.contract.clip import ClipRef
from fond_echo.core.dialogue.verdict import VerdictKind


def add(commands: Any) -> None:
    turn = commands.add_parser("turn", help="show turns: what came in and what was done")
    verbs = turn.add_subparsers(dest="verb", required=True, metavar="VERB")
    listing = verbs.add_parser("list", help="list the latest turns")
    listing.add_argument("--channel", default="", help="only on this channel")
    listing.add_argument(
        "--verdict", default="", choices=get_args(VerdictKind),
        help="only turns whose free answer was judged so",
    )  # fmt: skip
    listing.add_argument("--state", default="", help="only in this state, such as failed")
    listing.add_argument(
        "--text", default="", metavar="WORDS", help="only in which these words were said"
    )
    listing.add_argument("--limit", type=int, default=20, help="how many (20)")
    add_service(listing)
    listing.set_defaults(run=_list)
    listing.add_argument("--draft", action="store_true", help="only testers' turns")
    following.add(verbs)
    show = verbs.add_parser("show", help="show a turn, stage by stage")
    show.add_argument("id", help="of the turn, whole or as `turn list` shows it")
    add_service(show)
    show.add_argument("--exchange", action="store_true",
                      help="show the exchanges with outside services, too")  # fmt: skip
    show.set_defaults(run=_show)
    replaying.add_to_turns(verbs)
    explaining.add_to_turns(verbs)
    retry = verbs.add_parser("retry", help="queue a failed turn again")
    retry.add_argument("id", help="of the turn, whole or as `turn list` shows it")
    retry.add_argument("--revision", default="", metavar="ID",
                       help="answer it with this revision of its assistant: live, draft or an id; "
                       "a turn that is not finished, too")  # fmt: skip
    add_service(retry)
    retry.set_defaults(run=_retry)
    fail = verbs.add_parser("fail", help="end a turn that is not finished; nothing more is sent")
    fail.add_argument("id", help="of the turn, whole or as `turn list` shows it")
    fail.add_argument("--reason", default="", help="the reason, for the record")
    add_service(fail)
    fail.set_defaults(run=_fail)


def _list(options: argparse.Namespace) -> int:
    with service(options) as echo:
        page = echo.turns(
            channel=options.channel,
            state=options.state,
            limit=options.limit,
            text=options.text,
            verdict=options.verdict,
            draft=True if options.draft else None,
        )
    if options.json:
        print_json(page)
        return 0
    rows = [
        (f"{each.received_at:%H:%M:%S}", each.id[-12:], each.contact_name, each.arrived_as,
         each.text, each.route, each.state + ", draft" * each.draft)
        for each in page.items
    ]  # fmt: skip
    table(("at", "turn", "who", "as", "said", "route", "state"), rows)
    return 0


def _retry(options: argparse.Namespace) -> int:
    with service(options) as echo:
        turn = echo.retry_turn(options.id, options.revision)
    if options.json:
        print_json(turn)
    else:
        print(f"Turn {turn.number} of {turn.contact_name} queued again.")
    return 0


def _fail(options: argparse.Namespace) -> int:
    with service(options) as echo:
        turn = echo.fail_turn(options.id, options.reason)
    if options.json:
        print_json(turn)
    else:
        print(f"Turn {turn.number} of {turn.contact_name} ended as failed.")
    return 0


def _show(options: argparse.Namespace) -> int:
    with service(options) as echo:
        turn = echo.turn(options.id)
    if options.json:
        print_json(turn)
    else:
        show(turn, exchanges=options.exchange)
    return 0


def size_of(clip: ClipRef | None) -> str:
    return f"{clip.size:,} bytes" if clip is not None else ""


def show(turn: TurnDetail, *, exchanges: bool = False) -> None:
    """Print a turn with its stages, their lengths to scale; with what was exchanged, if asked."""
    print(
        f"{turn.contact_name} on {turn.channel}, {turn.arrived_as}, {turn.received_at:%H:%M:%S}"
        f"{', answered by the draft' * turn.draft}"
    )
    print(f"  said      {turn.text or ('(erased)' if turn.erased_at else '')}")
    if turn.sound and turn.sound.waveform:
        print(f"            {bar(turn.sound.waveform)} {turn.sound.seconds or 0:.1f} s")
    for file in turn.files:
        what = f"rejected, {file.refused}" if file.refused else size_of(file.clip)
        print(f"  file      {file.name or '(no name)'}, {file.media_type}, {what}")
    print(f"  route     {turn.route or '–'}")
    for delivery in turn.deliveries:
        print(f"  {delivery.kind:<9} {delivery.text}  [{delivery.state}]")
        if delivery.clip and delivery.clip.waveform:
            print(f"            {bar(delivery.clip.waveform)} {delivery.clip.seconds or 0:.1f} s")
    if turn.error:
        print(f"  error     {turn.error['code']} at {turn.error['stage']}: {turn.error['what']}")
    for run in turn.runs:
        print(f"\n  {run.kind} run, revision {run.revision[:12]}")
        longest = max((stage.seconds for stage in run.stages), default=0.0) or 1.0
        for stage in run.stages:
            length = max(1, round(30 * stage.seconds / longest)) if stage.seconds else 0
            print(f"    {stage.name:<10} {stage.seconds * 1000:>7.1f} ms  "
                  f"{'━' * length:<30}  {says(stage)}")  # fmt: skip
            for line in _also(stage.output):
                print(f"      {line}")
            for each in stage.output.get("asked", []):
                cost = f", {each['cost']:g}" if each["cost"] else ""
                why = f": {each['why']}" if each["why"] else ""
                milliseconds = 1_000 * each["seconds"]
                print(
                    f"      {each['engine']} {each['outcome']} in {milliseconds:.0f} ms{cost}{why}"
                )
                if exchanges:
                    _print_exchanges(each["exchanges"])
    if exchanges:
        for delivery in turn.deliveries:
            print(f"\n  delivery, {delivery.kind}")
            _print_exchanges(delivery.exchanges)


def _also(output: JsonObject) -> list[str]:
    """What else a stage heard: two readings of the same sound, words before they were all said,
    and what came back of a reply."""
    lines = []
    for each in output.get("readings") or []:
        used = ", used" if each["used"] else ""
        expected = "expected" if each["expected"] else "not expected"
        lines.append(f"{each['engine']} read “{each['text']}” ({expected}{used})")
    for each in output.get("partials") or []:
        lines.append(f"after {each['seconds']:.1f} s: {each['text']}")
    back = output.get("heard_as") or {}
    if missed := [
        f"{each['word']} → {each['heard'] or 'nothing'}" for each in back.get("doubts", [])
    ]:
        lines.append(f"did not come back: {', '.join(missed)}")
    return lines


def _print_exchanges(exchanges: list[Any]) -> None:
    for each in exchanges:
        if "url" in each:
            answer = each.get("status") or each.get("error")
            print(f"        {each['method']} {each['url']} → {answer}")
        for name in ("sent", "received"):
            if each.get(name) is not None:
                print(f"          {name:<9} {each[name]}")
