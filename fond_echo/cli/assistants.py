"""assistant check, put, publish, list, diff and schema."""

from __future__ import annotations

import argparse
import hashlib
from pathlib import Path
from typing import Any

from fond_echo.cli import explaining, packing, replaying, scenarios, trying, widening
from fond_echo.cli.folder import files_in
from fond_echo.cli.output import MixedParser, add_json, add_service, print_json, service, table


def add(commands: Any) -> None:
    assistant = commands.add_parser("assistant", help="check, put and publish assistants")
    verbs = assistant.add_subparsers(
        dest="verb", required=True, metavar="VERB", parser_class=MixedParser
    )
    check = verbs.add_parser("check", help="list all errors and warnings of an assistant's files")
    check.add_argument("folder", type=Path)
    add_json(check)
    check.set_defaults(run=_check)
    put = verbs.add_parser("put", help="put an assistant's files as its draft")
    put.add_argument("folder", type=Path)
    put.add_argument("--if-revision", default="", metavar="REVISION",
                     help="fail if the draft is another revision")  # fmt: skip
    put.add_argument("--publish", action="store_true", help="make the draft live, too")
    add_service(put)
    put.set_defaults(run=_put)
    publish = verbs.add_parser("publish", help="make an assistant's draft live")
    publish.add_argument("name")
    add_service(publish)
    publish.set_defaults(run=_publish)
    publish.add_argument("--revision", default="", help="a stored revision instead of the draft")
    publish.add_argument("--if-revision", default="", help="fail if another revision is live")
    publish.add_argument("--force", action="store_true", help="publish although a case fails")
    publish.add_argument("--why", default="", help="the reason, for the history")
    diff = verbs.add_parser("diff", help="compare the draft, or a folder, with what is live")
    diff.add_argument("name")
    diff.add_argument("--folder", type=Path, help="compare this instead of the draft")
    add_service(diff)
    diff.set_defaults(run=_diff)
    schema = verbs.add_parser("schema", help="print the JSON Schema of assistant.yaml")
    schema.set_defaults(run=_schema)
    trying.add(verbs)
    widening.add(verbs)
    packing.add(verbs)
    replaying.add_to_assistants(verbs)
    explaining.add_to_assistants(verbs)
    scenarios.add_to_assistants(verbs)
    listing = verbs.add_parser("list", help="list assistants")
    add_service(listing)
    listing.set_defaults(run=_list)


def _check(options: argparse.Namespace) -> int:
    from fond_echo.documents.errors import InvalidFile
    from fond_echo.documents.foresight import warnings
    from fond_echo.documents.reading import read_assistant

    files = files_in(options.folder)
    try:
        assistant = read_assistant(files)
    except InvalidFile as error:
        if options.json:
            print_json({"errors": [vars(fault) for fault in error.errors]})
            return 1
        raise
    found = warnings(assistant, files)
    if options.json:
        reported = [vars(warning) for warning in found]
        print_json({"errors": [], "warnings": reported, "assistant": assistant.assistant})
        return 0
    for warning in found:
        print(f"warning: {warning}")
    examples = sum(len(route.wordings) for route in assistant.routes)
    print(
        f"{assistant.assistant}: no errors; {len(assistant.routes)} routes, {examples} examples, "
        f"voice {assistant.voice}"
    )
    return 0


def _put(options: argparse.Namespace) -> int:
    from fond_echo.documents.reading import read_assistant

    files = files_in(options.folder)
    name = read_assistant(files).assistant
    with service(options) as echo:
        kept = echo.put_assistant(name, files, options.if_revision)
        if options.publish:
            kept = echo.publish_assistant(name)
    if options.json:
        print_json(kept)
    else:
        print(f"{name}: draft {str(kept.draft)[:12]}" + (", live" if options.publish else ""))
    return 0


def _publish(options: argparse.Namespace) -> int:
    with service(options) as echo:
        kept = echo.publish_assistant(
            options.name,
            options.revision,
            if_revision=options.if_revision,
            force=options.force,
            why=options.why,
        )
    if options.json:
        print_json(kept)
    else:
        print(f"{kept.name}: {str(kept.live)[:12]} is live")
    return 0


def _diff(options: argparse.Namespace) -> int:
    import difflib

    with service(options) as echo:
        live = echo.revision(options.name, "live").files
        if options.folder:
            other, name = files_in(options.folder), str(options.folder)
        else:
            other, name = echo.revision(options.name, "draft").files, "draft"
    lines: list[str] = []
    for file in sorted({*live, *other}):
        before, after = _reported(file, live.get(file, "")), _reported(file, other.get(file, ""))
        lines += difflib.unified_diff(
            before.splitlines(), after.splitlines(), f"live/{file}", f"{name}/{file}", lineterm=""
        )
    if options.json:
        print_json({"same": not lines, "diff": lines})
    else:
        print("\n".join(lines) if lines else f"{name} and live do not differ")
    return 0


def _reported(file: str, text: str) -> str:
    """A file as a difference shows it: of a sound or picture, its size and its content's digest."""
    from fond_echo.documents.media import bytes_of, is_media

    if not text or not is_media(file):
        return text
    data, kind = bytes_of(text), file.rpartition(".")[2]
    return f"[{kind}, {len(data):,} bytes, SHA-256 {hashlib.sha256(data).hexdigest()[:16]}]"


def _schema(_: argparse.Namespace) -> int:
    from fond_echo.documents.schema import published

    print(published().strip())
    return 0


def _list(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.assistants()
    if options.json:
        print_json(found)
        return 0
    rows = [
        (each.name, str(each.live or "–")[:12], "yes" if each.draft != each.live else "",
         f"{each.changed_at:%Y-%m-%d %H:%M}")
        for each in found
    ]  # fmt: skip
    table(("assistant", "live", "draft differs", "changed"), rows)
    return 0
