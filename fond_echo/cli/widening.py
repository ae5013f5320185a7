"""assistant widen: other wordings of an assistant's examples, approved one by one or all."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from fond_echo.cli.errors import OptionsClash
from fond_echo.cli.output import add_service, print_json, service, table
from fond_echo.contract.assistants import ProposalOut, WidenIn


def add(verbs: Any) -> None:
    widen = verbs.add_parser(
        "widen", help="propose other wordings of an assistant's examples, and add those approved"
    )
    widen.add_argument("folder", type=Path, help="of the assistant's files")
    widen.add_argument("--route", default="", help="only of this route")
    widen.add_argument("--count", type=int, default=10, help="wordings a route at most (10)")
    widen.add_argument(
        "--ask", metavar="NAME", default="",
        help="have the engine of the assistant NAME in the service propose them; it may cost",
    )  # fmt: skip
    widen.add_argument(
        "--accept", default="", metavar="NUMBERS",
        help="add these to the file under widened: 1,4-6, or all but those near another route",
    )  # fmt: skip
    add_service(widen)
    widen.set_defaults(run=_widen)


def _widen(options: argparse.Namespace) -> int:
    from fond_echo.cli.folder import files_in
    from fond_echo.documents.assistant import MAIN_FILE
    from fond_echo.documents.editing import with_example

    files = files_in(options.folder)
    if options.ask:
        given = WidenIn(route=options.route, count=options.count, files=files, ask=True)
        with service(options) as echo:
            found = echo.widen_assistant(options.ask, given).proposals
    else:
        found = _by_frames(files, options.route, options.count)
    chosen = _accepted(options.accept, found)
    if chosen:
        file = Path(options.folder) / MAIN_FILE
        text = files[MAIN_FILE]
        for each in chosen:
            text = with_example(text, each.route, each.example, among="widened")
        file.write_text(text, "utf-8")
    if options.json:
        accepted = [each.model_dump() for each in chosen]
        print_json({"proposals": [each.model_dump() for each in found], "accepted": accepted})
        return 0
    rows = [
        (str(number), each.route, each.example, each.near, "added" if each in chosen else "")
        for number, each in enumerate(found, 1)
    ]
    if rows:
        table(("", "route", "proposed wording", "near another route", ""), rows)
    print(
        f"{len(chosen)} of {len(found)} wordings added to {options.folder}/{MAIN_FILE}."
        if chosen
        else f"{len(found)} wordings; add good ones with --accept 1,4-6 or --accept all."
    )
    return 0


def _by_frames(files: dict[str, str], route: str, count: int) -> list[ProposalOut]:
    """Wordings by everyday frames, without a service."""
    from fond_echo.core.dialogue.widening import by_frames
    from fond_echo.documents.reading import read_assistant

    assistant = read_assistant(files)
    examples = {each.route: each.plain for each in assistant.routes if each.plain}
    if route and route not in examples:
        raise OptionsClash(
            f"no route {route!r} has examples", remedy=f"name one of {', '.join(examples)}"
        )
    wanted = {route: examples[route]} if route else examples
    found = by_frames(wanted, assistant.router(), count)
    return [ProposalOut(**vars(each), by="frames") for each in found]


def _accepted(given: str, found: list[ProposalOut]) -> list[ProposalOut]:
    """The proposals that are named by their numbers; "all" leaves out those near another route."""
    if not given:
        return []
    if given == "all":
        return [each for each in found if not each.near]
    chosen: list[ProposalOut] = []
    for part in given.split(","):
        first, _, last = part.strip().partition("-")
        numbers = (first, last or first)
        if not all(each.isdigit() and 1 <= int(each) <= len(found) for each in numbers):
            raise OptionsClash(
                f"--accept {part.strip()}: there are proposals 1 to {len(found)}",
                remedy="write numbers and spans, such as 1,4-6, or all",
            )
        chosen += found[int(numbers[0]) - 1 : int(numbers[1])]
    return list({(each.route, each.example): each for each in chosen}.values())
