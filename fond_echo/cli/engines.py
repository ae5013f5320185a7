"""fond-echo engine: connect outside engines, try them, and see what they did and cost."""

from __future__ import annotations

import argparse
import base64
import sys
from pathlib import Path
from typing import Any

from fond_echo.cli.files import text_in
from fond_echo.cli.output import add_json, add_service, named, print_json, service, table
from fond_echo.contract.engine import EngineIn, EngineOut, EngineTrialIn


def add(commands: Any) -> None:
    engine = commands.add_parser("engine", help="connect and try outside engines")
    verbs = engine.add_subparsers(dest="verb", required=True, metavar="VERB")
    adding = verbs.add_parser("add", help="connect an engine, or replace its connector")
    adding.add_argument("file", type=Path, help="its connector file")
    adding.add_argument("--set", action="append", default=[], metavar="NAME=VALUE", type=named,
                        help="a value that the file asks for, such as base=https://…")  # fmt: skip
    adding.set_defaults(run=_add)
    check = verbs.add_parser("check", help="list all errors of an engine's connector file")
    check.add_argument("file", type=Path)
    check.add_argument("--set", action="append", default=[], metavar="NAME=VALUE", type=named,
                       help="a value that the file asks for")  # fmt: skip
    add_json(check)
    check.set_defaults(run=_check)
    listing = verbs.add_parser("list", help="list all engines, with what they did today")
    listing.set_defaults(run=_list)
    show = verbs.add_parser("show", help="show one engine, with its last seven days")
    show.add_argument("name")
    show.set_defaults(run=_show)
    trying = verbs.add_parser("try", help="ask an engine once and print each exchange")
    trying.add_argument("name")
    trying.add_argument(
        "text", nargs="?", default="", help="words to speak, answer, summarize, translate or draw"
    )
    trying.add_argument("--sound", type=Path, help="a recording to transcribe")
    trying.add_argument("--brief", default="", help="the brief for an answer: who the assistant is")
    trying.add_argument("--language", default="en")
    trying.add_argument("--to", default="", help="the language to translate into")
    trying.add_argument("--sentences", type=int, default=3, help="of a summary, at most (3)")
    trying.add_argument("-o", "--output", type=Path, help="where the voice note or picture goes")
    trying.set_defaults(run=_try)
    delete = verbs.add_parser("delete", help="disconnect an engine")
    delete.add_argument("name")
    delete.set_defaults(run=_delete)
    for each in (adding, listing, show, trying, delete):
        add_service(each)


def _check(options: argparse.Namespace) -> int:
    from fond_echo.documents.engine import read_engine
    from fond_echo.documents.errors import InvalidFile

    names = frozenset(dict(options.set)) | {"base"}
    try:
        found = read_engine(text_in(options.file), str(options.file), names)
    except InvalidFile as error:
        if options.json:
            print_json({"errors": [vars(each) for each in error.errors]})
            return 1
        raise
    if options.json:
        print_json({"errors": [], "engine": found.engine, "does": found.does,
                    "secrets": sorted(found.secrets())})  # fmt: skip
        return 0
    print(f"{found.engine}: no errors; it can {found.does}")
    if found.secrets():
        print(f"  secrets by name: {', '.join(sorted(found.secrets()))}")
    return 0


def _add(options: argparse.Namespace) -> int:
    from fond_echo.documents.engine import read_engine

    text, values = text_in(options.file), dict(options.set)
    name = read_engine(text, str(options.file), frozenset(values)).engine
    with service(options) as echo:
        found = echo.put_engine(name, EngineIn(connector=text, values=values))
        there = {each.name for each in echo.secrets()}
    if options.json:
        print_json(found)
        return 0
    print(f"Engine {found.name} connected: it can {found.does}.")
    for secret in sorted(set(found.secrets) - there):
        print(f"  The secret {secret} is not stored yet: fond-echo secret put {secret} --host …")
    print(f"  An assistant asks it by engines: {{{found.does}: [{found.name}]}}.")
    return 0


def _today(found: EngineOut) -> tuple[str, str, str, str]:
    """Asked, failed, mean wait and cost of its last day."""
    if not found.days:
        return "0", "0", "", ""
    last = found.days[0]
    wait = f"{1_000 * last.seconds / max(1, last.asked):.0f} ms"
    return str(last.asked), str(last.failed), wait, f"{last.cost:.4f} {found.currency}"


def _trouble(found: EngineOut) -> str:
    """Its last error, and until when it is paused."""
    if found.paused_until is None:
        return found.last_error
    return f"paused until {found.paused_until:%H:%M:%S}: {found.last_error}"


def _list(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.engines()
    if options.json:
        print_json(found)
        return 0
    table(
        ("engine", "does", "asked", "failed", "mean wait", "cost", "last error"),
        [(each.name, each.does, *_today(each), _trouble(each)[:90]) for each in found],
    )
    return 0


def _show(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.engine(options.name)
    if options.json:
        print_json(found)
        return 0
    print(f"{found.name} can {found.does}; languages: {', '.join(found.languages) or 'all'}")
    if found.daily_budget is not None:
        print(f"It is asked no more after {found.daily_budget:g} {found.currency} a day.")
    if found.last_error:
        print(f"Last error, {found.last_error_at:%Y-%m-%d %H:%M}: {found.last_error}")
    rows = [
        (str(each.day), str(each.asked), str(each.failed),
         f"{1_000 * each.seconds / max(1, each.asked):.0f} ms", f"{each.cost:.4f}")
        for each in found.days
    ]  # fmt: skip
    table(("day", "asked", "failed", "mean wait", f"cost, {found.currency}"), rows)
    return 0


def _try(options: argparse.Namespace) -> int:
    sound = base64.b64encode(options.sound.read_bytes()).decode() if options.sound else ""
    given = EngineTrialIn(
        text=options.text, brief=options.brief, sound=sound, language=options.language,
        to=options.to, sentences=options.sentences,
    )  # fmt: skip
    with service(options) as echo:
        found = echo.try_engine(options.name, given)
    if (found.sound or found.picture) and options.output:
        options.output.write_bytes(base64.b64decode(found.sound or found.picture))
    if options.json:
        print_json(found)
        return 0 if found.asked.outcome == "done" else 1
    for each in found.asked.exchanges:
        print(f"{each['method']} {each['url']} → {each['status'] or each['error']}"
              f" in {1_000 * each['seconds']:.0f} ms")  # fmt: skip
        for name in ("sent", "received"):
            if each[name] is not None:
                print(f"  {name}: {each[name]}")
    if found.asked.outcome != "done":
        print(f"fond-echo: {found.asked.why}", file=sys.stderr)
        return 1
    print(found.text)
    if found.asked.cost:
        print(f"  cost: {found.asked.cost:g}")
    return 0


def _delete(options: argparse.Namespace) -> int:
    with service(options) as echo:
        echo.delete_engine(options.name)
    if not options.json:
        print(f"Engine {options.name} disconnected.")
    return 0
