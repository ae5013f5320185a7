"""call place, list, show, end and recording."""

from __future__ import annotations

import argparse
import base64
import json
import time
from pathlib import Path
from typing import Any

from fond_echo.cli.files import bytes_in
from fond_echo.cli.output import add_service, named, print_json, service, table
from fond_echo.contract.call import CallDetail, CallIn, CallOut, Opening, RetryPlan

LOOK_SECONDS = 0.5


def add(commands: Any) -> None:
    call = commands.add_parser("call", help="place calls, and show calls")
    verbs = call.add_subparsers(dest="verb", required=True, metavar="VERB")
    place = verbs.add_parser("place", help="call a number")
    place.add_argument("channel", help="the phone channel that calls")
    place.add_argument("to", help="the number that is called")
    opening = place.add_mutually_exclusive_group(required=True)
    opening.add_argument("--assistant", help="the assistant that talks")
    opening.add_argument("--text", help="the text to say first")
    opening.add_argument("--sound", type=Path, metavar="FILE", help="a sound file to play first")
    opening.add_argument(
        "--opening-url",
        metavar="URL",
        help="the address that is asked what to say when the call is answered",
    )
    place.add_argument("--caller", default="", help="the caller number to show")
    place.add_argument("--name", default="", help="the name of the person who is called")
    place.add_argument(
        "--variable",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        type=named,
        help="a value for the assistant's templates",
    )
    place.add_argument(
        "--afterwards", choices=("talk", "end"), default="", help="what to do after the opening"
    )
    place.add_argument(
        "--on-answering-machine", choices=("speak", "hang-up"), default="speak",
        help="what to do when an answering machine picks up (speak)",
    )  # fmt: skip
    place.add_argument("--attempts", type=int, default=1, help="call so many times at most (1)")
    place.add_argument(
        "--retry-after",
        type=int,
        default=600,
        metavar="SECONDS",
        help="pause between attempts (600)",
    )
    place.add_argument("--wait", action="store_true", help="stay until the call is over")
    add_service(place)
    place.set_defaults(run=_place)
    listing = verbs.add_parser("list", help="list a channel's calls, the latest first")
    listing.add_argument("channel")
    listing.add_argument("--limit", type=int, default=20, help="how many (20)")
    add_service(listing)
    listing.set_defaults(run=_list)
    for name, run, words in (
        ("show", _show, "show a call with its events"),
        ("end", _end, "hang up, or cancel a requested call"),
        ("recording", _recording, "download the recording of a call"),
    ):
        verb = verbs.add_parser(name, help=words)
        verb.add_argument("id", help="of the call, whole or as `call list` shows it")
        if name == "recording":
            verb.add_argument("-o", "--output", type=Path, default=Path("call.ogg"))
        add_service(verb)
        verb.set_defaults(run=run)


def _opening(options: argparse.Namespace) -> Opening:
    sound = ""
    if options.sound is not None:
        sound = base64.b64encode(bytes_in(options.sound)).decode()
    return Opening(
        assistant=options.assistant, text=options.text or "", sound=sound,
        address=options.opening_url or "",
    )  # fmt: skip


def _value(text: str) -> Any:
    try:
        return json.loads(text)
    except ValueError:
        return text


def _place(options: argparse.Namespace) -> int:
    variables = dict(options.variable)
    retry = None
    if options.attempts > 1:
        retry = RetryPlan(times=options.attempts - 1, after_seconds=options.retry_after)
    given = CallIn(
        to=options.to, opening=_opening(options), caller=options.caller, name=options.name,
        variables={name: _value(text) for name, text in variables.items()},
        afterwards=options.afterwards, retry=retry,
        on_answering_machine=options.on_answering_machine,
    )  # fmt: skip
    with service(options) as echo:
        call = echo.place_call(options.channel, given)
        while options.wait and call.state != "ended":
            time.sleep(LOOK_SECONDS)
            call = echo.call(call.id)
    if options.json:
        print_json(call)
    elif options.wait:
        show(call)
    else:
        print(f"Call {call.id} to {call.number} requested.")
    return 0 if not options.wait or call.answered_at else 1


def _list(options: argparse.Namespace) -> int:
    with service(options) as echo:
        page = echo.calls(options.channel, limit=options.limit)
    if options.json:
        print_json(page)
        return 0
    rows = [
        (f"{each.requested_at:%H:%M:%S}", each.id[-12:], "from" if each.direction == "in" else "to",
         each.caller if each.direction == "in" else each.number, each.state, _length(each),
         each.cause)
        for each in page.items
    ]  # fmt: skip
    table(("at", "call", "", "number", "state", "length", "ended"), rows)
    return 0


def _length(call: CallOut) -> str:
    return f"{call.seconds:.0f} s" if call.seconds is not None else ""


def _show(options: argparse.Namespace) -> int:
    with service(options) as echo:
        call = echo.call(options.id)
    if options.json:
        print_json(call)
    else:
        show(call)
    return 0


def _end(options: argparse.Namespace) -> int:
    with service(options) as echo:
        call = echo.end_call(options.id)
    if options.json:
        print_json(call)
    else:
        print(f"Call {call.id}: hang-up requested.")
    return 0


def _recording(options: argparse.Namespace) -> int:
    with service(options) as echo:
        call = echo.call(options.id)
        if call.recording is None:
            print("This call was not recorded.")
            return 1
        options.output.write_bytes(echo.sound(call.recording.id))
    print(f"{options.output}: {call.recording.size:,} bytes; left is the other side, right is us")
    return 0


def show(call: CallDetail) -> None:
    """Print a call with its timeline."""
    way = f"from {call.caller}" if call.direction == "in" else f"to {call.number}"
    print(f"call {way} on {call.channel}, {call.requested_at:%H:%M:%S}: {call.state}")
    if call.answered_by:
        print(f"  answered by   {call.answered_by}")
    for each in call.attempts:
        print(f"  tried         {each.at:%H:%M:%S}  {each.outcome} {each.status or ''}".rstrip())
    for happening in call.timeline:
        at = f"{happening.at:7.2f} s" if happening.at is not None else "         "
        about = ", ".join(f"{name} {value}" for name, value in happening.about.items() if value)
        print(f"  {at}  {happening.kind:<12} {about}".rstrip())
    if call.quality:
        q = call.quality
        if "mos" in q:
            print(f"  MOS  {q['mos']} (R factor {q['r_factor']}), "
                  f"{q['loss']:.1%} lost, jitter {q['jitter_ms']} ms")  # fmt: skip
        else:
            print("  no packets came from the other side")
    if call.recording is not None:
        print(f"  recording     {call.recording.id}, {call.recording.size:,} bytes")
