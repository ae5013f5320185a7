"""serve, and its parts alone; settings; demo."""

from __future__ import annotations

import argparse
from typing import Any

from fond_echo.cli.output import add_json, print_json, table

COMMANDS = ("serve", "web", "work", "speech", "phone", "settings", "demo")
"""They need all that a service does."""


def add(commands: Any) -> None:
    serve = commands.add_parser("serve", help="run the service: web, work, speech and phone")
    serve.set_defaults(run=_serve)
    for name, what in (
        ("web", "run only the API, the console and webhooks"),
        ("work", "run only the worker of queued turns"),
        ("speech", "run only speech recognition and synthesis"),
        ("phone", "run only the telephone: channels of the kind phone"),
    ):
        part = commands.add_parser(name, help=what)
        part.set_defaults(run=_part, part=name)
    settings = commands.add_parser("settings", help="show all settings and their values")
    add_json(settings)
    settings.set_defaults(run=_settings)
    demo = commands.add_parser("demo", help="run the service in a small made-up world")
    demo.add_argument("--fresh", action="store_true", help="begin with an empty world")
    demo.add_argument(
        "--tour",
        action="store_true",
        help="play a passenger in a world of its own, check, and stop",
    )
    demo.add_argument("--folder", default=".demo", help="where the demo keeps its data (.demo)")
    demo.add_argument("--verbose", action="store_true", help="show what the service writes, too")
    demo.set_defaults(run=_demo)


def _part(options: argparse.Namespace) -> int:
    from fond_echo.running import processes
    from fond_echo.settings import Settings

    getattr(processes, options.part)(Settings())
    return 0


def _serve(options: argparse.Namespace) -> int:
    from fond_echo.running.together import serve
    from fond_echo.settings import Settings

    return serve(Settings())


SECRET = frozenset(("secret_keys", "first_key", "database"))


def _settings(options: argparse.Namespace) -> int:
    from fond_echo.settings import Settings

    now = Settings()
    rows = []
    for name, field in Settings.model_fields.items():
        value = getattr(now, name)
        shown = "•••" if name in SECRET and value else value
        if isinstance(shown, list):
            shown = ",".join(map(str, shown))
        rows.append((f"FOND_ECHO_{name.upper()}", str(shown), field.description or ""))
    if options.json:
        print_json([dict(zip(("name", "value", "what"), row, strict=True)) for row in rows])
    else:
        table(("setting", "now", "what it is"), rows)
        file = Settings.model_config.get("env_file")
        print(
            f"From the environment, or NAME=value lines in {file} (FOND_ECHO_FILE names another)."
        )
    return 0


def _demo(options: argparse.Namespace) -> int:
    from pathlib import Path

    from fond_echo.demo.run import demo

    return demo(
        Path(options.folder), fresh=options.fresh, tour=options.tour, verbose=options.verbose
    )
