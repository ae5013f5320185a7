"""connector check, try and listen: how a connector file is written."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import getpass
import json
import re
import sys
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

from fond_echo.cli.files import text_in
from fond_echo.cli.output import add_json, named, print_json, table
from fond_echo.contract.base import JsonObject
from fond_echo.core.errors import FondEchoError

SAMPLES: JsonObject = {
    "our_address": "https://echo.example/webhooks/test",
    "cursor": "",
    "sound": "a-handle",
    "conversation": "a-room",
    "contact": "a-person",
    "text": "Hello from Fond Echo.",
    "key": "test-1",
    "id": "a-message",
    "kind": "typing",
    "name": "note.txt",
    "url": "https://echo.example/note.txt",
    "seconds": 1.0,
    "waveform": [0.2, 0.9, 0.4, 0.7],
    "choices": [{"label": "Yes", "value": "yes"}, {"label": "No", "value": "no"}],
}


def add(commands: Any) -> None:
    connector = commands.add_parser("connector", help="check and try connector files")
    verbs = connector.add_subparsers(dest="verb", required=True, metavar="VERB")
    check = verbs.add_parser("check", help="list all errors of a connector file")
    check.add_argument("file", type=Path)
    _add_values(check)
    add_json(check)
    check.set_defaults(run=_check)
    trying = verbs.add_parser("try", help="run one request with sample facts and print it")
    trying.add_argument("file", type=Path)
    trying.add_argument("request", help="connect, poll, fetch, text, voice, …")
    _add_values(trying)
    trying.add_argument("--fact", action="append", default=[], metavar="NAME=VALUE", type=named,
                        help="a fact instead of its sample (conversation=room-7)")  # fmt: skip
    trying.add_argument("--sound", type=Path, help="a voice note to send")
    _add_reach(trying)
    add_json(trying)
    trying.set_defaults(run=_try)
    listen = verbs.add_parser("listen", help="wait for a message and print its fields")
    listen.add_argument("file", type=Path)
    _add_values(listen)
    listen.add_argument("--port", type=int, default=8799, help="port to listen on (8799)")
    listen.add_argument("--keep", type=Path, help="write what came to a file")
    listen.add_argument("--several", action="store_true",
                        help="until Ctrl-C: one table of fields by kinds of messages")  # fmt: skip
    listen.add_argument(
        "--count", type=int, default=0, help="wait for so many messages, and print a table (1)"
    )
    listen.add_argument("--cursor", default="", help="the cursor to begin at, for a polled network")
    _add_reach(listen)
    listen.set_defaults(run=_listen)


def _add_values(command: argparse.ArgumentParser) -> None:
    command.add_argument("--set", action="append", default=[], metavar="NAME=VALUE", type=named,
                         help="a value of the channel, such as base=https://…")  # fmt: skip


def _add_reach(command: argparse.ArgumentParser) -> None:
    command.add_argument("--secret", action="append", default=[], metavar="NAME=FILE", type=named,
                         help="a file with a secret's value; others are asked for")  # fmt: skip
    command.add_argument("--private", action="append", default=[], metavar="HOST:PORT",
                         help="a private host:port that may be reached")  # fmt: skip


def _described(options: argparse.Namespace) -> Any:
    from fond_echo.documents.connector import read_connector

    values = dict(options.set)
    names = frozenset(values) | {"base"}
    return read_connector(text_in(options.file), str(options.file), names), values


def _check(options: argparse.Namespace) -> int:
    from fond_echo.documents.errors import InvalidFile

    if _is_phone(options.file):
        return _check_phone(options)
    try:
        connector, _ = _described(options)
    except InvalidFile as error:
        if options.json:
            print_json({"errors": [vars(fault) for fault in error.errors]})
            return 1
        raise
    able = sorted(kind for kind, steps in connector.requests.items() if steps)
    if options.json:
        print_json({"errors": [], "network": connector.network, "requests": able})
    else:
        print(f"{connector.network}: no errors; requests: {', '.join(able)}")
        if connector.secrets():
            print(f"  secrets by name: {', '.join(sorted(connector.secrets()))}")
    return 0


def _is_phone(file: Path) -> bool:
    """Whether a file describes a telephone trunk: it begins with its name, `phone`."""
    return bool(re.search(r"^phone:", text_in(file), re.MULTILINE))


def _check_phone(options: argparse.Namespace) -> int:
    from fond_echo.documents.errors import InvalidFile
    from fond_echo.documents.phone import read_phone

    try:
        found = read_phone(text_in(options.file), str(options.file))
    except InvalidFile as error:
        if options.json:
            print_json({"errors": [vars(fault) for fault in error.errors]})
            return 1
        raise
    if options.json:
        print_json({"errors": [], "warnings": found.warnings(), "phone": found.phone})
        return 0
    print(f"{found.phone}: no errors; a phone channel at {found.address}")
    for warning in found.warnings():
        print(f"  warning: {warning}")
    return 0


def _try(options: argparse.Namespace) -> int:
    connector, values = _described(options)
    if options.request not in connector.requests:
        known = ", ".join(connector.requests)
        print(f"fond-echo: no request {options.request!r}; there are {known}", file=sys.stderr)
        return 2
    if not connector.requests[options.request]:
        print(f"{connector.network} has no {options.request}", file=sys.stderr)
        return 1
    return asyncio.run(_run(options, connector, values))


async def _run(options: argparse.Namespace, connector: Any, values: dict[str, str]) -> int:
    from fond_echo.channels.chat import ChatChannel
    from fond_echo.connectors.guard import guarded_client
    from fond_echo.connectors.wire import Payload
    from fond_echo.core.audio.waveform import heights

    facts = {**SAMPLES, **dict(options.fact)}
    if options.sound:
        from fond_echo.core.audio.containers import decode

        data = options.sound.read_bytes()
        clip = decode(data).clip
        facts |= {"seconds": round(clip.seconds, 3), "waveform": heights(clip)}
        facts["sound"] = facts["file"] = Payload(data, "audio/ogg", options.sound.name)
    vault = Asked(dict(options.secret))
    async with guarded_client(options.private) as client:
        channel = ChatChannel(connector, values, {}, client, vault)
        error: FondEchoError | None = None
        try:
            outcome = await channel.run(options.request, facts)
            exchanges, taken = outcome.exchanges, outcome.facts
        except FondEchoError as caught:
            error, exchanges, taken = caught, getattr(caught, "exchanges", []), {}
    reported, taken = [vars(each) for each in exchanges], vault.redacted(taken)
    if options.json:
        print_json({"exchanges": reported, "facts": taken, "error": str(error or "")})
    else:
        for each in reported:
            print(f"{each['method']} {each['url']} → {each['status'] or each['error']}")
            for name in ("sent", "received"):
                if each[name] is not None:
                    print(f"  {name}: {json.dumps(each[name], ensure_ascii=False)[:1_000]}")
        for name, value in taken.items():
            print(f"  took {name} = {value!r}")
        if error is not None:
            print(f"✗ {error}", file=sys.stderr)
    return 1 if error else 0


class Asked:
    """A vault whose secrets are asked for when they are needed; they may go anywhere, because
    whoever tries says where."""

    def __init__(self, files: dict[str, str]) -> None:
        self._values = {name: text_in(Path(path)).strip() for name, path in files.items()}

    def __getitem__(self, name: str) -> str:
        if name not in self._values:
            self._values[name] = getpass.getpass(f"secret {name}: ")
        return self._values[name]

    def check_hosts(self, host: str, port: int) -> None:
        """Anything goes."""

    def keep(self, name: str, value: str) -> None:
        """One whose value is known."""
        self._values[name] = value

    def hide(self, value: str) -> None:
        """Strike this out too."""
        self._values[f"hidden-{len(self._values)}"] = value

    def redacted(self, value: Any) -> Any:
        from fond_echo.connectors.secrets import Secret, Vault

        known = {name: Secret(name, text, frozenset()) for name, text in self._values.items()}
        return Vault(known).redacted(value)


def show_message(connector: Any, values: dict[str, str], payload: Any) -> None:
    """Every value with its path, and what the description makes of the message."""
    import httpx

    from fond_echo.channels.chat import ChatChannel
    from fond_echo.connectors.secrets import Vault
    from fond_echo.contract.channel import Unreadable
    from fond_echo.documents.drafting.example import json_path, leaves_of

    print("\nFields of the message:")
    found = [(json_path(place), value) for place, value in leaves_of(payload)]
    width = min(46, max((len(path) for path, _ in found), default=0))
    for path, value in found:
        print(f"  {path:<{width}}  {json.dumps(value, ensure_ascii=False)[:70]}")
    channel = ChatChannel(connector, values, {}, httpx.AsyncClient(), Vault({}))
    print("\nRead by the connector file as:")
    messages = channel.messages(payload)
    if not messages:
        print("  nothing: no message at `each`, or all of them are our own")
    for each in messages:
        if isinstance(each, Unreadable):
            print(f"  ✗ {each.reason}")
            continue
        message, _ = each
        for name, value in message.model_dump().items():
            if value not in (None, "", False):
                print(f"  {name:<14}{value}")


def _listen(options: argparse.Namespace) -> int:
    """Wait for messages: one, or as many as are wanted, or until Ctrl-C."""
    connector, values = _described(options)
    wanted = 0 if options.several else options.count or 1
    if connector.receive.poll is not None:
        return asyncio.run(_poll(options, connector, values, wanted))
    got: list[bytes] = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:  # the library's name
            got.append(self.rfile.read(int(self.headers.get("content-length", 0))))
            self.send_response(202)
            self.end_headers()
            if wanted and len(got) >= wanted:
                threading.Thread(target=self.server.shutdown).start()
            else:
                print(f"\r{len(got)} so far", end="", file=sys.stderr, flush=True)

        def log_message(self, *_: Any) -> None:
            """Say nothing of our own."""

    server = HTTPServer(("127.0.0.1", options.port), Handler)
    many = "messages" if wanted != 1 else "a message"
    print(f"Waiting for {many} at http://127.0.0.1:{options.port}/ (Ctrl-C ends it)", flush=True)
    with contextlib.suppress(KeyboardInterrupt):
        server.serve_forever(poll_interval=0.1)
    server.server_close()
    if not got:
        print("Nothing came.", file=sys.stderr)
        return 1
    if options.keep:
        options.keep.write_bytes(got[0] if wanted == 1 else b"\n".join(got))
    try:
        payloads = [json.loads(each) for each in got]
    except ValueError:
        print(f"The message is not JSON: {got[-1][:200]!r}", file=sys.stderr)
        return 1
    _show_payloads(connector, values, payloads, wanted)
    return 0


def _show_payloads(
    connector: Any, values: dict[str, str], payloads: list[Any], wanted: int
) -> None:
    if wanted == 1:
        print(json.dumps(payloads[0], indent=2, ensure_ascii=False)[:4_000])
        show_message(connector, values, payloads[0])
    else:
        show_messages(connector, payloads)


async def _poll(
    options: argparse.Namespace, connector: Any, values: dict[str, str], wanted: int
) -> int:
    """Ask a network for messages until so many came, or until Ctrl-C."""
    from fond_echo.channels.chat import ChatChannel
    from fond_echo.connectors.guard import guarded_client
    from fond_echo.documents.payloads import messages_in

    poll, receive = connector.receive.poll, connector.receive
    vault, payloads, count = Asked(dict(options.secret)), list[Any](), 0
    cursor = options.cursor
    print("Asking the network for messages (Ctrl-C ends it)", flush=True)
    with contextlib.suppress(KeyboardInterrupt, asyncio.CancelledError):
        async with guarded_client(options.private) as client:
            channel = ChatChannel(connector, values, {}, client, vault)
            while True:
                document, cursor = await channel.ask_after(cursor)
                if came := len(list(messages_in(document, receive.each))):
                    payloads.append(vault.redacted(document))
                    count += came
                if wanted and count >= wanted:
                    break
                await asyncio.sleep(poll.every)
    if not payloads:
        print("Nothing came.", file=sys.stderr)
        return 1
    if options.keep:
        options.keep.write_text("\n".join(json.dumps(each) for each in payloads))
    _show_payloads(connector, values, payloads, wanted)
    return 0


def show_messages(connector: Any, payloads: list[Any]) -> None:
    """One table of fields by kinds of messages, warnings, and a draft of `message:`."""
    from fond_echo.documents import payloads as side

    receive = connector.receive
    messages = [
        (side.kind_of(each, receive), each)
        for payload in payloads
        for each in side.messages_in(payload, receive.each)
    ]
    kinds = [kind for kind in side.KINDS if any(kind == each for each, _ in messages)]
    totals = {kind: sum(kind == each for each, _ in messages) for kind in kinds}
    rows = [
        (each.path, *(_share(each.there[kind], totals[kind]) for kind in kinds), each.mapped,
         json.dumps(each.example, ensure_ascii=False)[:32])
        for each in side.fields(messages, receive.message)
    ]  # fmt: skip
    table(("field", *(f"{kind} ({totals[kind]})" for kind in kinds), "mapped as", "example"), rows)
    for name, path, kind in side.one_kind_only(messages, receive.message):
        print(f"  ! {name}: {path} is there in one kind only, {kind}")
    print("\nA first draft, by the names of the fields:\n\n    message:")
    for name, path in side.draft(messages).items():
        print(f"      {name}: {json.dumps(path)}")


def _share(count: int, total: int) -> str:
    """How often a field is there: always, sometimes, or never."""
    return "✓" if count == total else f"{count} of {total}" if count else ""
