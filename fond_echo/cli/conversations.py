"""conversation list, say, export, load and try: a conversation as a file, continued, and replayed
with a draft; and words to contacts who have not just asked."""

from __future__ import annotations

import argparse
import base64
import csv
import json
import re
import sys
from datetime import datetime
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from fond_echo.cli.errors import NotAConversation, NotSaid, Unreadable
from fond_echo.cli.files import text_in
from fond_echo.cli.folder import files_in
from fond_echo.cli.output import add_service, print_json, service, table
from fond_echo.client import FondEcho
from fond_echo.contract.api import LoadedTurn, LoadIn, TurnOut
from fond_echo.contract.base import JsonObject
from fond_echo.contract.saying import Addressed, SayIn

WENT = ("queued", "scheduled", "duplicate")
FORMAT = "fond-echo conversation 1"


def add(commands: Any) -> None:
    conversation = commands.add_parser("conversation", help="export, load and try conversations")
    verbs = conversation.add_subparsers(dest="verb", required=True, metavar="VERB")
    listing = verbs.add_parser("list", help="list the latest conversations")
    listing.add_argument("--limit", type=int, default=20, help="how many (20)")
    add_service(listing)
    listing.set_defaults(run=_list)
    export = verbs.add_parser("export", help="export a conversation as JSON")
    export.add_argument("id", help="of the conversation, whole or as lists show it")
    export.add_argument("-o", "--output", type=Path, help="the file; without it, to the terminal")
    export.add_argument("--redact", action="store_true", help="leave out names and identifiers")
    export.add_argument("--sound", action="store_true", help="with all voice notes, in base64")
    add_service(export)
    export.set_defaults(run=_export)
    load = verbs.add_parser("load", help="load an exported conversation, to continue it")
    load.add_argument("file", type=Path)
    load.add_argument("--channel", required=True, help="of the kind http or page")
    load.add_argument("--contact", required=True, help="a new contact, whose conversation it is")
    add_service(load)
    load.set_defaults(run=_load)
    saying = verbs.add_parser("say", help="write to contacts who have not just asked")
    saying.add_argument("channel", help="of a chat network")
    saying.add_argument("text", help="the words; {{ values.NAME }} is a column of the list")
    saying.add_argument("--contact", action="append", default=[], metavar="ID",
                        help="its id on the network")  # fmt: skip
    saying.add_argument("--list", type=Path, metavar="FILE",
                        help="CSV with a column contact, and others for the words")  # fmt: skip
    saying.add_argument("--spoken", action="store_true", help="as a voice note")
    saying.add_argument("--idempotency-key", default="", metavar="KEY",
                        help="what has the same key reaches nobody twice")  # fmt: skip
    saying.add_argument("--at", default="", metavar="TIME",
                        help="when: 2027-01-31T08:00")  # fmt: skip
    saying.add_argument("--zone", default="", help="a time zone, such as Europe/London")
    saying.add_argument("--quiet", default="", metavar="HOURS",
                        help="when nothing goes out: 21:00-08:00")  # fmt: skip
    add_service(saying)
    saying.set_defaults(run=_say)
    waits = verbs.add_parser("scheduled", help="list words that are scheduled")
    waits.add_argument("channel")
    add_service(waits)
    waits.set_defaults(run=_waiting)
    stopping = verbs.add_parser("cancel", help="cancel scheduled words")
    stopping.add_argument("channel")
    stopping.add_argument("idempotency_key", metavar="KEY", help="with which they were said")
    add_service(stopping)
    stopping.set_defaults(run=_stop)
    trying = verbs.add_parser("try", help="say an exported conversation again to an assistant")
    trying.add_argument("file", type=Path)
    trying.add_argument("assistant", help="its draft is tried; nothing is stored or sent")
    trying.add_argument("--folder", type=Path, help="a folder of files instead of the draft")
    add_service(trying)
    trying.set_defaults(run=_try)


def _list(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.conversations(limit=options.limit).items
    if options.json:
        print_json([each.model_dump(mode="json") for each in found])
        return 0
    rows = [
        (f"{each.changed_at:%m-%d %H:%M}", each.id[-12:], each.channel, each.contact_name,
         str(each.turns), each.last_text)
        for each in found
    ]  # fmt: skip
    table(("at", "conversation", "channel", "who", "turns", "last said"), rows)
    return 0


def _export(options: argparse.Namespace) -> int:
    with service(options) as echo:
        conversation = echo.conversation(options.id)
        turns = sorted(_turns(echo, conversation.id), key=lambda each: each.number)
        whole = {
            "format": FORMAT,
            "channel": conversation.channel,
            "contact": "" if options.redact else conversation.contact_name,
            "turns": [_turn(echo, each, sound=options.sound) for each in turns],
        }
    text = json.dumps(whole, indent=1, ensure_ascii=False) + "\n"
    if options.output is None:
        print(text, end="")
    else:
        options.output.write_text(text, "utf-8")
        print(f"{options.output}: {len(turns)} turns.")
    return 0


def _turns(echo: FondEcho, conversation: str) -> list[TurnOut]:
    found, after = [], ""
    while True:
        page = echo.turns(conversation=conversation, cursor=after, limit=100)
        found += page.items
        after = page.next
        if not after:
            return found


def _turn(echo: FondEcho, turn: TurnOut, *, sound: bool) -> JsonObject:
    kept: JsonObject = {
        "at": turn.received_at.isoformat(), "arrived_as": turn.arrived_as, "said": turn.text,
        "route": turn.route, "state": turn.state,
        "answers": [
            {"kind": each.kind, "text": each.text}
            for each in turn.deliveries
            if each.text and each.state == "sent"
        ],
    }  # fmt: skip
    if turn.erased_at is not None:
        kept["erased"] = True
    if sound and turn.sound is not None and turn.sound_erased_at is None:
        kept["sound"] = base64.b64encode(echo.sound(turn.sound.id)).decode()
    return kept


def _read(file: Path) -> list[JsonObject]:
    """The turns of an exported conversation. Raises NotAConversation."""
    try:
        whole = json.loads(text_in(file))
        turns = whole["turns"] if whole["format"] == FORMAT else None
    except (ValueError, KeyError, TypeError):
        turns = None
    if not isinstance(turns, list):
        raise NotAConversation(f"{file} is no exported conversation",
                               remedy="fond-echo conversation export ID -o FILE")  # fmt: skip
    return turns


def _load(options: argparse.Namespace) -> int:
    names = LoadedTurn.model_fields
    try:
        turns = [
            LoadedTurn.model_validate({k: v for k, v in each.items() if k in names})
            for each in _read(options.file)
        ]
    except (ValidationError, AttributeError) as error:
        raise NotAConversation(f"{options.file} has a turn without a message",
                               remedy="export the conversation again") from error  # fmt: skip
    with service(options) as echo:
        found = echo.load_conversation(
            options.channel, LoadIn(contact=options.contact, turns=turns)
        )
    if options.json:
        print_json(found)
        return 0
    print(f"{found.turns} turns loaded into {found.channel} as {found.contact_name}.")
    print(f'  Go on with it: POST /ask/{found.channel} {{"contact": "{found.contact_name}", …}}')
    return 0


def _try(options: argparse.Namespace) -> int:
    turns = _read(options.file)
    files = files_in(options.folder) if options.folder else None
    state: JsonObject = {}
    rows, changed = [], 0
    with service(options) as echo:
        for turn in turns:
            if not turn["said"]:
                continue
            tried = echo.try_assistant(options.assistant, turn["said"], state, files)
            state = tried.state
            before = " ".join(each["text"] for each in turn["answers"])
            now = tried.not_run or " ".join(each.written for each in tried.replies)
            other = turn["route"] != tried.route or (before != now and not tried.not_run)
            changed += other
            rows.append(
                (turn["said"], turn["route"], before, tried.route, now, "≠" if other else "")
            )
    if options.json:
        names = ("said", "route", "answer", "route_now", "answer_now", "different")
        print_json([dict(zip(names, row, strict=True)) for row in rows])
        return 0
    table(("said", "then", "", "now", "", ""), rows)
    print(f"{len(rows)} turns said again: {changed} are different.", file=sys.stdout)
    return 0


def _say(options: argparse.Namespace) -> int:
    contacts = [Addressed(contact=each) for each in options.contact]
    if options.list is not None:
        contacts += _listed(options.list)
    if not contacts:
        remedy = "name them: --contact ID, or --list FILE"
        raise NotSaid("nobody is to be written to", remedy=remedy)
    given = SayIn(
        contacts=contacts, text=options.text, spoken_reply=options.spoken,
        idempotency_key=options.idempotency_key, at=_time(options.at), zone=options.zone,
        quiet=_hours(options.quiet),
    )  # fmt: skip
    with service(options) as echo:
        found = echo.say(options.channel, given)
    if options.json:
        print_json(found)
        return 0
    rows = []
    for each in found.results:
        when = f"{each.due_at:%d %b %H:%M %Z}" if each.due_at else ""
        rows.append((each.contact, each.state, when))
    table(("contact", "state", "due"), rows)
    key = found.idempotency_key
    print(f"Sent again with --idempotency-key {key}, it reaches nobody twice.")
    if any(each.state == "scheduled" for each in found.results):
        print(f"To cancel it: fond-echo conversation cancel {options.channel} {key}")
    return 0 if all(each.state in WENT for each in found.results) else 1


def _waiting(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.scheduled_messages(options.channel)
    if options.json:
        print_json(found)
        return 0
    rows = [(f"{each.due_at:%d %b %H:%M %Z}", each.contact, each.key, each.text) for each in found]
    table(("due", "contact", "key", "text"), rows)
    return 0


def _stop(options: argparse.Namespace) -> int:
    with service(options) as echo:
        echo.cancel_messages(options.channel, options.idempotency_key)
    print(f"{options.idempotency_key}: nobody is sent it any more")
    return 0


def _time(text: str) -> datetime | None:
    try:
        return datetime.fromisoformat(text) if text else None
    except ValueError as error:
        raise NotSaid(f"{text!r} is no time", remedy="write it as 2027-01-31T08:00") from error


def _hours(text: str) -> str:
    if text and not re.fullmatch(r"\d\d:\d\d-\d\d:\d\d", text):
        raise NotSaid(f"{text!r} are no hours", remedy="write them as 21:00-08:00")
    return text


def _listed(file: Path) -> list[Addressed]:
    """The contacts of a CSV file. Raises Unreadable."""
    rows = csv.DictReader(text_in(file).splitlines())
    if "contact" not in (rows.fieldnames or ()):
        raise Unreadable(f"{file} has no column contact: its first line names the columns")
    found = []
    for number, row in enumerate(rows, 2):
        contact = (row.pop("contact") or "").strip()
        if not contact or None in row:
            what = "more values than columns" if contact else "no contact"
            raise Unreadable(f"{file}, line {number}: {what}")
        place = (row.pop("conversation", "") or "").strip()
        values = {name: value for name, value in row.items() if value is not None}
        found.append(Addressed(contact=contact, conversation=place, values=values))
    return found
