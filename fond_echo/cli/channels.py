"""channel: add, list, show, connect, pause, rename and delete channels, and whom they answer."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any, get_args

from fond_echo.cli.errors import NoContact, NotFacts
from fond_echo.cli.files import text_in
from fond_echo.cli.output import add_service, named, print_json, service, table
from fond_echo.contract.api import (
    ChannelIn,
    ChannelOut,
)
from fond_echo.contract.base import JsonObject
from fond_echo.contract.channel import ChannelKind, ChannelSettings
from fond_echo.contract.contacts import (
    WordsInRevision,
)


def add(commands: Any) -> None:
    channel = commands.add_parser("channel", help="add channels, and set who may write there")
    verbs = channel.add_subparsers(dest="verb", required=True, metavar="VERB")
    adding = verbs.add_parser("add", help="add or change a channel")
    adding.add_argument("name")
    adding.add_argument("--kind", choices=get_args(ChannelKind), default="chat")
    adding.add_argument("--connector", help="a connector file; for an adapter, its name")
    adding.add_argument("--assistant", required=True, help="who answers there")
    adding.add_argument("--set", action="append", default=[], metavar="NAME=VALUE", type=named,
                        help="a value that the connector file asks for")  # fmt: skip
    adding.add_argument("--settings", type=Path, metavar="FILE",
                        help="a YAML file with access, quotas, retention and so on; without it a "
                        "channel keeps the settings it has")  # fmt: skip
    add_service(adding)
    adding.set_defaults(run=_add)
    for name, what, run in (
        ("list", "list channels", _list),
        ("show", "show a channel with its settings", _show),
        ("connect", "register the webhook address with the network again", _connect),
        ("pause", "stop polling a channel's network, until channel connect", _pause),
        ("unreadable", "list messages that could not be read, and why", _unreadable),
        ("delete", "delete an unused channel", _delete),
        ("rename", "rename a channel with everything that came in over it", _rename),
        (
            "contacts",
            "list the contacts of a channel; --standing refused lists those who were refused",
            _contacts,
        ),
        ("contract", "print all that a program needs to know to ask it, as one text", _contract),
        ("testers", "list, add or remove contacts whom the draft answers", _testers),
        ("allow", "let a contact in", _standing),
        ("block", "stop answering a contact", _standing),
        (
            "memory",
            "show, replace (--put) or delete (--delete) what is remembered of a contact",
            _memory,
        ),
        ("erase", "erase everything that a contact said and was answered", _erase),
    ):
        command = verbs.add_parser(name, help=what)
        if name != "list":
            command.add_argument("name", help="of the channel")
        if name == "rename":
            command.add_argument("new", help="its new name")
        if name == "contract":
            command.add_argument("--last", action="store_true",
                                 help="with the last exchange: words of a contact")  # fmt: skip
        if name == "contacts":
            command.add_argument("--standing", default="", help="new, allowed, refused or blocked")
        if name == "testers":
            command.add_argument("--add", action="append", default=[], metavar="CONTACT",
                                 help="its id on the network, such as a telephone number; it need "
                                 "not have written or called before")  # fmt: skip
            command.add_argument("--remove", action="append", default=[], metavar="CONTACT",
                                 help="answer it by what is live again")  # fmt: skip
        if name in ("allow", "block", "erase", "memory"):
            command.add_argument("contact", help="its id, or its id on the network")
        if name == "erase":
            also = command.add_mutually_exclusive_group()
            rewriting = "rewrite revisions with the contact's words without them"
            also.add_argument("--yes", action="store_true", help=rewriting)
            leaving = "leave words that were kept as cases or examples"
            also.add_argument("--leave-revisions", action="store_true", help=leaving)
        if name == "memory":
            instead = command.add_mutually_exclusive_group()
            reported = "a JSON object to remember in place of all that was"
            instead.add_argument("--put", type=Path, metavar="FILE", help=reported)
            instead.add_argument("--delete", action="store_true", help="delete all of it")
        add_service(command)
        command.set_defaults(run=run)


def _settings(file: Path) -> ChannelSettings:
    from fond_echo.documents.source import read_yaml
    from fond_echo.documents.validate import validated

    return validated(read_yaml(text_in(file), str(file)), ChannelSettings)


def _described(kind: str, file: Path, values: frozenset[str]) -> str:
    """The text of a description, once it was found right. Raises InvalidFile."""
    text = text_in(file)
    if kind == "phone":
        from fond_echo.documents.phone import read_phone

        read_phone(text, str(file))
    else:
        from fond_echo.documents.connector import read_connector

        read_connector(text, str(file), values)
    return text


def _add(options: argparse.Namespace) -> int:
    values = dict(options.set)
    connector = options.connector or ""
    if options.kind in ("chat", "phone"):
        if not options.connector:
            reported = f"fond-echo: a {options.kind} channel needs --connector: its connector file"
            print(reported, file=sys.stderr)
            return 2
        connector = _described(options.kind, Path(options.connector), frozenset(values))
    channel = ChannelIn(
        kind=options.kind,
        assistant=options.assistant,
        connector=connector,
        values=values,
        settings=_settings(options.settings) if options.settings is not None else None,
    )
    with service(options) as echo:
        before = next((each for each in echo.channels() if each.name == options.name), None)
        after = echo.put_channel(options.name, channel)
        if before is not None and not options.json:
            for change in changes(before, after):
                print(f"  {change}")
        return _reported(options, after)


def changes(before: ChannelOut, after: ChannelOut) -> Iterator[str]:
    """What is another in a channel, each in a line of text."""
    for name in ("kind", "assistant"):
        if getattr(before, name) != getattr(after, name):
            yield f"{name}: {getattr(before, name)} → {getattr(after, name)}"
    if before.connector != after.connector:
        yield "description: changed"
    yield from _differences("", before.values, after.values)
    yield from _differences("", before.settings.model_dump(), after.settings.model_dump())


def _differences(path: str, before: Any, after: Any) -> Iterator[str]:
    if isinstance(before, dict) and isinstance(after, dict):
        for name in sorted({*before, *after}):
            yield from _differences(f"{path}.{name}".lstrip("."), before.get(name), after.get(name))
    elif before != after:
        yield f"{path}: {before} → {after}"


def _connect(options: argparse.Namespace) -> int:
    with service(options) as echo:
        return _reported(options, echo.connect_channel(options.name))


def _pause(options: argparse.Namespace) -> int:
    with service(options) as echo:
        return _reported(options, echo.pause_channel(options.name))


def _unreadable(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.unreadable(options.name)
    if options.json:
        print_json(found)
        return 0
    for each in found:
        print(f"{each.received_at:%Y-%m-%d %H:%M:%S}  {each.reason}")
        print(f"  {json.dumps(each.payload, ensure_ascii=False)[:1_000]}")
    if not found:
        print(f"Every message of {options.name} could be read.")
    return 0


def _reported(options: argparse.Namespace, channel: ChannelOut) -> int:
    if options.json:
        print_json(channel)
    else:
        print(
            f"{channel.name}: {channel.state}" + (f" ({channel.reason})" if channel.reason else "")
        )
        print(f"  it is at {channel.address}")
        for warning in channel.warnings:
            print(f"  warning: {warning}")
    return 1 if channel.state == "not-connected" else 0


def _show(options: argparse.Namespace) -> int:
    with service(options) as echo:
        channel = echo.channel(options.name)
    if options.json:
        print_json(channel)
        return 0
    print(f"{channel.name}: {channel.kind}, {channel.state}, answered by {channel.assistant}")
    if channel.reason:
        print(f"  {channel.reason}")
    if channel.unreadable:
        count, name = channel.unreadable, channel.name
        print(f"  {count} messages could not be read: fond-echo channel unreadable {name}")
    print(f"  {channel.address}")
    for name, value in channel.settings.model_dump().items():
        print(f"  {name:<18} {value}")
    return 0


def _list(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.channels()
    if options.json:
        print_json(found)
        return 0
    rows = [
        (each.name, each.kind, each.assistant, each.state, each.refused or "", each.reason)
        for each in found
    ]
    table(("channel", "kind", "assistant", "state", "refused", ""), rows)
    return 0


def _rename(options: argparse.Namespace) -> int:
    with service(options) as echo:
        channel = echo.rename_channel(options.name, options.new)
    if options.json:
        print_json(channel)
    else:
        print(f"Channel {options.name} is {channel.name} now: {channel.state}.")
    return 0


def _delete(options: argparse.Namespace) -> int:
    with service(options) as echo:
        echo.delete_channel(options.name)
    if not options.json:
        print(f"Channel {options.name} deleted.")
    return 0


def _contacts(options: argparse.Namespace) -> int:
    with service(options) as echo:
        page = echo.contacts(options.name, options.standing)
    if options.json:
        print_json(page)
        return 0
    rows = [
        (each.external_id, each.name, each.standing, f"{each.first_seen_at:%Y-%m-%d %H:%M}")
        for each in page.items
    ]
    table(("contact", "name", "standing", "first seen"), rows)
    return 0


def _contract(options: argparse.Namespace) -> int:
    with service(options) as echo:
        print(echo.contract(options.name, options.last))
    return 0


def _testers(options: argparse.Namespace) -> int:
    with service(options) as echo:
        before = {name: each.id for each in echo.testers(options.name)
                  for name in (each.id, each.external_id)}  # fmt: skip
        for each in options.remove:
            if each not in before:
                raise NoContact(f"the channel {options.name!r} has no tester {each!r}")
        for each in options.add:
            echo.add_tester(options.name, each)
        for each in options.remove:
            echo.remove_tester(options.name, before[each])
        found = echo.testers(options.name)
    if options.json:
        print_json(found)
        return 0
    if not found:
        print(f"{options.name} has no testers: what is live answers everyone.")
        return 0
    table(("tester", "name"), [(each.external_id, each.name) for each in found])
    following = f"fond-echo turn follow --channel {options.name} --draft"
    print(f"The draft answers them. Follow their turns: {following}")
    return 0


def _contact(echo: Any, channel: str, wanted: str) -> str:
    after = ""
    while True:
        page = echo.contacts(channel, cursor=after)
        for each in page.items:
            if wanted in (each.id, each.external_id):
                return str(each.id)
        after = page.next
        if not after:
            raise NoContact(f"the channel {channel!r} has no contact {wanted!r}")


def _standing(options: argparse.Namespace) -> int:
    standing = "allowed" if options.verb == "allow" else "blocked"
    with service(options) as echo:
        contact = echo.set_standing(
            options.name, _contact(echo, options.name, options.contact), standing
        )
    if options.json:
        print_json(contact)
    else:
        print(f"{contact.name or contact.external_id} is {contact.standing}")
    return 0


def _memory(options: argparse.Namespace) -> int:
    given = _facts(options.put) if options.put else {}
    with service(options) as echo:
        contact = _contact(echo, options.name, options.contact)
        if options.put or options.delete:
            print_json(echo.set_memory(options.name, contact, given))
        else:
            print_json(echo.memory(options.name, contact))
    return 0


def _facts(file: Path) -> JsonObject:
    """Raises NotFacts for a file that is no JSON object."""
    try:
        given = json.loads(text_in(file))
    except ValueError as error:
        raise NotFacts(f"{file} cannot be read as JSON: {error}") from error
    if not isinstance(given, dict):
        raise NotFacts(f"{file} holds no JSON object", remedy='such as {"island": "Pell"}')
    return given


def _erase(options: argparse.Namespace) -> int:
    with service(options) as echo:
        contact_id = _contact(echo, options.name, options.contact)
        found = echo.words_in_revisions(options.name, contact_id)
        confirm = True if options.yes else False if options.leave_revisions else None
        if found and confirm is None:
            return _not_erased(options, found)
        contact = echo.erase_contact(options.name, contact_id, confirm)
    if options.json:
        print_json(contact)
        return 0
    print(f"Contact {options.contact} erased: texts, sound, memory.")
    if found and confirm:
        count = len({each.revision for each in found})
        print(f"{count} {'revision' if count == 1 else 'revisions'} rewritten without its words.")
    return 0


def _not_erased(options: argparse.Namespace, found: list[WordsInRevision]) -> int:
    """Say where a contact's words stand in revisions, and what to do."""
    if options.json:
        print_json(found)
    else:
        rows = [
            (each.assistant, each.revision[:12], f"{each.file}:{each.line}", each.what, each.text)
            for each in found
        ]
        table(("assistant", "revision", "file", "what", "words"), rows)
    print(
        f"Nothing was erased: words of {options.contact} stand in revisions of assistants. "
        "Say --yes to rewrite these revisions without them, or --leave-revisions to leave them.",
        file=sys.stderr,
    )
    return 1
