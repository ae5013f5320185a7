"""assistant new and try: the beginning of an assistant, and a talk with it in the terminal."""

from __future__ import annotations

import argparse
import asyncio
import os
import sys
from pathlib import Path
from typing import Any

from fond_echo.cli.errors import FolderNotEmpty, OptionsClash
from fond_echo.cli.output import add_service, print_json
from fond_echo.contract.base import JsonObject
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.starter import starter_files

STEPS = """\
Created {folder}. Next steps:
  1. your own words, in assistant.yaml and documents/: fond-echo assistant check {folder}
  2. a talk with it, here in the terminal:         fond-echo assistant try {there}
  3. your business logic, where words are not enough: logic: in assistant.yaml
  4. the service:  fond-echo assistant put {folder} --publish
  5. a channel:    fond-echo channel add front-door --kind page --assistant {name}"""


def add(verbs: Any) -> None:
    new = verbs.add_parser("new", help="create a small assistant that works, to begin with")
    new.add_argument("folder", type=Path)
    new.add_argument("--guided", action="store_true",
                     help="by questions; it is published and answers once")  # fmt: skip
    add_service(new)
    new.set_defaults(run=_new)
    trying = verbs.add_parser(
        "try", help="talk with an assistant, and see why it answers as it does"
    )
    trying.add_argument(
        "assistant", help="the name of one in the service, or a folder such as ./desk"
    )
    trying.add_argument("said", nargs="*", help="what is said; without it, lines from the terminal")
    trying.add_argument("--scores", action="store_true", help="show the scores of other routes too")
    trying.add_argument(
        "--ask", action="store_true", help="ask the engines of free answers for real; they may cost"
    )
    add_service(trying)
    trying.set_defaults(run=_try)


def _new(options: argparse.Namespace) -> int:
    if options.guided:
        from fond_echo.cli.guiding import guided

        return guided(options)
    folder: Path = options.folder
    if folder.exists() and any(folder.iterdir()):
        raise FolderNotEmpty(f"{folder} has files in it", remedy="give the name of a new folder")
    name = folder.name.lower().replace("_", "-").replace(" ", "-")
    title = name.replace("-", " ").capitalize()
    (folder / "documents").mkdir(parents=True)
    words = {"name": name, "title": title, "folder": folder}
    for file, text in starter_files(name, str(folder)).items():
        (folder / file).write_text(text, "utf-8")
    there = folder if len(folder.parts) > 1 else f"./{folder}"
    print(STEPS.format(**words, there=there))
    return 0


def _try(options: argparse.Namespace) -> int:
    if options.ask and _is_a_folder(options.assistant):
        raise OptionsClash(
            "--ask: engines are connected in the service, and a folder is tried without one",
            remedy="put it there first: fond-echo assistant put FOLDER",
        )
    said = options.said or (line.rstrip("\n") for line in _lines())
    answer = _here(options) if _is_a_folder(options.assistant) else _in_the_service(options)
    state: JsonObject = {}
    for text in said:
        reported = answer(text, state)
        state = reported["state"]
        if options.json:
            print_json(reported)
            continue
        _show(reported, options.scores)
    return 0


def _is_a_folder(given: str) -> bool:
    """Whether a folder is meant: a name alone is an assistant's in the service."""
    return given in (".", "..") or "/" in given or os.sep in given


def _lines() -> Any:
    if sys.stdin.isatty():
        print("Type what to say; an empty line ends the conversation.")
    for line in sys.stdin:
        if not line.strip():
            return
        yield line


def _here(options: argparse.Namespace) -> Any:
    """A talk with the files of a folder, without a service; business logic is not asked."""
    from datetime import UTC, datetime

    from fond_echo.cli.folder import files_in
    from fond_echo.contract.channel import Inbound
    from fond_echo.documents.digest import digest
    from fond_echo.documents.reading import read_assistant
    from fond_echo.replays.nothing_outside import NoLogic
    from fond_echo.replays.trying import try_out
    from fond_echo.turns.state import ConversationState

    files = files_in(Path(options.assistant))
    assistant, revision = read_assistant(files), digest(files)

    def answer(text: str, state: JsonObject) -> JsonObject:
        said = Inbound(id="1", conversation="try", contact="try", text=text)
        found = asyncio.run(
            try_out(
                assistant,
                revision,
                said,
                ConversationState.read(state),
                datetime.now(UTC),
                NoLogic("give the name of an assistant in the service"),
            )
        )
        return {
            **found.routed.model_dump(include={"route", "by", "outcome", "because", "slots"}),
            "scores": [each.model_dump() for each in found.routed.scores],
            "replies": [each.model_dump(mode="json") for each in found.replies],
            "spoken": found.spoken,
            "not_run": found.not_run,
            "state": found.state.stored(),
        }

    return answer


def _in_the_service(options: argparse.Namespace) -> Any:
    from fond_echo.cli.output import service

    def answer(text: str, state: JsonObject) -> JsonObject:
        try:
            with service(options) as echo:
                return echo.try_assistant(
                    options.assistant, text, state, ask=options.ask
                ).model_dump(mode="json")
        except FondEchoError as error:
            if Path(options.assistant).is_dir():
                error.remedy = f"for the folder here, write ./{options.assistant}"
            raise

    return answer


def _show(reported: JsonObject, scores: bool) -> None:
    print(f"  {reported['route']}, by {reported['by']}: {reported['because']}")
    for name, value in reported["slots"].items():
        print(f"    {name}: {value}")
    if scores:
        for each in reported["scores"]:
            print(f"    {each['score']:.2f}  {each['confidence']:>4.0%}  {each['route']}")
    for each in reported.get("asked", []):
        why = f": {each['why']}" if each["why"] else ""
        cost = f", {each['cost']:.4f}" if each["cost"] else ""
        print(f"    {each['engine']} {each['outcome']} in {each['seconds']:.2f} s{cost}{why}")
    for reply in reported["replies"]:
        print("  " + (reply["text"] or reply["spoken"]).replace("\n", "\n  "))
        if reply["choices"]:
            print("  [" + "] [".join(each["label"] for each in reply["choices"]) + "]")
    if reported["not_run"]:
        print(f"  ({reported['not_run']})")
