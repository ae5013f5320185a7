"""Messages of a network that are caught while somebody sends them."""

from __future__ import annotations

import asyncio
import json
import sys
from http.server import BaseHTTPRequestHandler, HTTPServer
from typing import Any

from fond_echo.cli.errors import NotSaid
from fond_echo.contract.drafting import CaughtIn, ConnectorExamples

PAUSE_SECONDS = 1.0
MAX_POLLS = 300
MAX_BODY = 1_000_000


def typed(number: int, said: list[str]) -> str:
    """What was typed in a message: as it was said before, or asked for now."""
    if number < len(said):
        return said[number]
    if not sys.stdin.isatty():
        raise NotSaid(
            f"it is not known what was typed in message {number + 1}",
            remedy='say it for each: --text TEXT, or --text "" for a voice note',
        )
    return input(f"What was typed in message {number + 1} (nothing for a voice note)? ")


def caught_by_post(port: int, wanted: int, said: list[str]) -> list[CaughtIn]:
    """Messages that a network posts to this machine, with their headers."""
    got: list[tuple[dict[str, str], bytes]] = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:  # the library's name
            size = min(int(self.headers.get("content-length", 0)), MAX_BODY)
            got.append((dict(self.headers.items()), self.rfile.read(size)))
            self.send_response(202)
            self.end_headers()

        def log_message(self, *_: Any) -> None:
            """Say nothing of our own."""

    server = HTTPServer(("127.0.0.1", port), Handler)
    print(f"Waiting for {wanted} messages at http://127.0.0.1:{port}/ (Ctrl-C ends it)",
          file=sys.stderr, flush=True)  # fmt: skip
    try:
        while len(got) < wanted:
            server.handle_request()
    finally:
        server.server_close()
    found = []
    for number, (headers, body) in enumerate(got[:wanted]):
        try:
            document = json.loads(body)
        except ValueError as error:
            raise NotSaid(f"message {number + 1} is not JSON: {body[:80]!r}") from error
        found.append(
            CaughtIn(document=document, text=typed(number, said), headers=headers,
                     body=body.decode("utf-8", "replace"))
        )  # fmt: skip
    return found


async def caught_by_poll(
    given: ConnectorExamples, vault: Any, private: list[str], wanted: int, said: list[str]
) -> list[CaughtIn]:
    """Messages that the network is asked for as its example says, again and again, until its
    answer changed so many times."""
    from fond_echo.connectors.guard import guarded_client
    from fond_echo.connectors.machine import RequestMachine
    from fond_echo.documents.drafting.draft import plain_step
    from fond_echo.documents.drafting.drafted import examples_of
    from fond_echo.documents.steps import Step

    example = examples_of(given)["poll"]
    step = Step.model_validate(plain_step(given.name, example, given.token))
    found: list[CaughtIn] = []
    last: Any = None
    print(f"Asking {example.host}. Send {wanted} messages, one after the other (Ctrl-C ends it)",
          file=sys.stderr, flush=True)  # fmt: skip
    async with guarded_client(private) as client:
        machine = RequestMachine(client, vault, {"base": example.base})
        for _ in range(MAX_POLLS):
            document = (await machine.run([step], {})).document
            if last is not None and document != last:
                found.append(CaughtIn(document=document, text=typed(len(found), said)))
            last = document
            if len(found) == wanted:
                return found
            await asyncio.sleep(PAUSE_SECONDS)
    raise NotSaid(
        f"after {MAX_POLLS} times asking there were {len(found)} messages",
        remedy="send them while it waits, or give them as files: --message FILE",
    )
