"""Commands of the stand-in chat network: run it, or play one of its people.

python -m fond_echo.standins.chat serve --port 8780 --token T --mark M
python -m fond_echo.standins.chat say isla "When is the next boat to Pell?"
python -m fond_echo.standins.chat send isla note.ogg
python -m fond_echo.standins.chat read isla
"""

from __future__ import annotations

import argparse
import os
import sys
import time
from pathlib import Path

import httpx

ADDRESS = "http://127.0.0.1:8780"


def main(arguments: list[str] | None = None) -> int:
    parser = argparse.ArgumentParser(
        prog="python -m fond_echo.standins.chat",
        description=__doc__,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--at", default=ADDRESS, help=f"where the network is ({ADDRESS})")
    commands = parser.add_subparsers(dest="command", required=True)
    serve = commands.add_parser("serve", help="run the network")
    serve.add_argument("--port", type=int, default=8780)
    say = commands.add_parser("say", help="type something, and wait for the answer")
    say.add_argument("person")
    say.add_argument("words")
    send = commands.add_parser("send", help="send a sound file, and wait for the answer")
    send.add_argument("person")
    send.add_argument("file", type=Path)
    send.add_argument("--as-file", action="store_true", help="as a file, not as a recording")
    read = commands.add_parser("read", help="show a person's room")
    read.add_argument("person")
    for command in (say, send):
        command.add_argument("--wait", type=float, default=15.0, help="seconds (15)")
    options = parser.parse_args(arguments)
    if options.command == "serve":
        return _serve(options)
    with httpx.Client(base_url=options.at, trust_env=False, timeout=30.0) as client:
        try:
            return _play(client, options)
        except httpx.HTTPStatusError as error:
            print(error.response.json().get("reason", error), file=sys.stderr)
            return 1
        except httpx.HTTPError as error:
            print(f"no network at {options.at}: {error}", file=sys.stderr)
            return 3


def _serve(options: argparse.Namespace) -> int:
    from fond_echo.http_server import serve
    from fond_echo.standins.chat.app import create_app

    token, mark = (os.environ.get(name, "") for name in ("SKERRY_TOKEN", "SKERRY_MARK"))
    if not token or not mark:
        print("set SKERRY_TOKEN (what the bot shows) and SKERRY_MARK (what signs webhooks)",
              file=sys.stderr)  # fmt: skip
        return 2
    app = create_app(token, mark)
    serve(app, host="127.0.0.1", port=options.port, log_level="warning", access_log=False)
    return 0


def _play(client: httpx.Client, options: argparse.Namespace) -> int:
    room = f"room-{options.person}"
    if options.command == "read":
        for post in _posts(client, room, 0):
            _show(post)
        return 0
    if options.command == "say":
        answer = client.post(f"/people/{options.person}/say", json={"words": options.words})
    else:
        kind = "file" if options.as_file else "record"
        answer = client.post(
            f"/people/{options.person}/{kind}",
            content=options.file.read_bytes(),
            params={"name": options.file.name},
        )
    answer.raise_for_status()
    mine = answer.json()
    _show(mine)
    return _await_answer(client, room, mine["number"], options.wait)


def _await_answer(client: httpx.Client, room: str, after: int, seconds: float) -> int:
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        found = [post for post in _posts(client, room, after) if post["sender"]["automated"]]
        if found:
            for post in found:
                _show(post)
            return 0
        time.sleep(0.2)
    print("(no answer yet)", file=sys.stderr)
    return 1


def _posts(client: httpx.Client, room: str, after: int) -> list[dict]:  # type: ignore[type-arg]
    answer = client.get(f"/rooms/{room}/posts", params={"after": after})
    answer.raise_for_status()
    posts: list[dict] = answer.json()["posts"]  # type: ignore[type-arg]
    return posts


def _show(post: dict) -> None:  # type: ignore[type-arg]
    text = post.get("words", "")
    if "sound" in post:
        sound = post["sound"]
        kind = "voice note" if sound["as"] == "note" else "file"
        text = f"[{kind}, {sound['length']:.1f} s] {sound['why']}"
    print(f"{post['sender']['name']}: {text}")


if __name__ == "__main__":
    sys.exit(main())
