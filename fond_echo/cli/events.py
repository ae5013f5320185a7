"""event follow, and subscriptions."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator
from typing import Any

import httpx

from fond_echo.cli.errors import FollowRefused
from fond_echo.cli.output import add_service, print_json, service, table
from fond_echo.client import Unreachable
from fond_echo.client.call import unreachable
from fond_echo.contract.base import JsonObject


def add(commands: Any) -> None:
    event = commands.add_parser("event", help="follow events, and subscribe addresses to them")
    verbs = event.add_subparsers(dest="verb", required=True, metavar="VERB")
    follow = verbs.add_parser("follow", help="print events as they happen")
    follow.add_argument("--after", default="", help="the id of the event to continue after")
    follow.add_argument("--channel", default="", help="only what is about this channel")
    follow.add_argument("--count", type=int, default=0, help="stop after so many")
    add_service(follow)
    follow.set_defaults(run=_follow)
    listing = verbs.add_parser("subscriptions", help="list subscriptions and undelivered events")
    add_service(listing)
    listing.set_defaults(run=_list)
    adding = verbs.add_parser("subscribe", help="subscribe an address to events")
    adding.add_argument("to", help="its address")
    adding.add_argument("--secret", required=True, help="the name of the secret that signs")
    adding.add_argument("--type", action="append", default=[],
                        help="the beginning of event types, such as turn.")  # fmt: skip
    add_service(adding)
    adding.set_defaults(run=_subscribe)
    again = verbs.add_parser("retry", help="send undelivered events again")
    again.add_argument("subscription")
    add_service(again)
    again.set_defaults(run=_again)


def _follow(options: argparse.Namespace) -> int:
    for count, event in enumerate(happening(options), 1):
        _print(event, options.json)
        if count == options.count:
            break
    return 0


def happening(options: argparse.Namespace) -> Iterator[JsonObject]:
    """Events as they happen, of the channel and after the event that the options name, if any.

    Raises:
        FollowRefused: the service does not give them.
        Unreachable: it is not there, or no longer.
    """
    headers = {"Authorization": f"Bearer {options.key}"}
    asked = {name: found for name in ("after", "channel") if (found := getattr(options, name, ""))}
    try:
        with httpx.stream(
            "GET",
            f"{options.address}/api/events",
            params=asked or None,
            headers=headers,
            timeout=None,
            trust_env=False,
        ) as response:
            if response.status_code != 200:
                response.read()
                found = response.json().get("detail", f"it answered {response.status_code}")
                raise FollowRefused(str(found))
            for line in response.iter_lines():
                if line.startswith("data:"):
                    yield json.loads(line[5:])
    except httpx.HTTPError as error:
        reported: Unreachable = unreachable(options.address, error)
        raise reported from error


def _print(event: JsonObject, as_json: bool) -> None:
    if as_json:
        print(json.dumps(event, ensure_ascii=False), flush=True)
        return
    data = " ".join(f"{name}={value}" for name, value in event["data"].items())
    kind = event["type"].removeprefix("fond-echo.")
    print(f"{event['time'][11:23]}  {kind:<20} {event['subject'][-12:]}  {data}", flush=True)


def _list(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.subscriptions()
    if options.json:
        print_json(found)
        return 0
    rows = [
        (each.id[-12:], each.address, " ".join(each.types) or "all", each.waiting, each.undelivered)
        for each in found
    ]
    table(("subscription", "address", "types", "waiting", "undelivered"), rows)
    return 0


def _subscribe(options: argparse.Namespace) -> int:
    with service(options) as echo:
        made = echo.subscribe(options.to, options.secret, options.type)
    if options.json:
        print_json(made)
    else:
        print(f"Subscribed {made.address} ({made.id}).")
    return 0


def _again(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = next(
            (each.id for each in echo.subscriptions() if each.id.endswith(options.subscription)),
            options.subscription,
        )
        reported = echo.retry_undelivered(found)
    if options.json:
        print_json(reported)
    else:
        print(f"{reported.waiting} events queued again.")
    return 0
