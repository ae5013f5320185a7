"""What commands print: tables for people, JSON for programs, errors with what to do."""

from __future__ import annotations

import argparse
import json
import os
import sys
from collections.abc import Sequence
from typing import Any

from pydantic import BaseModel

from fond_echo.client import FondEcho, Refused, Unreachable
from fond_echo.core.audio.columns import resized
from fond_echo.core.errors import FondEchoError

UNREACHABLE = 3


class MixedParser(argparse.ArgumentParser):
    """A parser whose options may stand between and behind its positional arguments."""

    _within = False

    def parse_known_args(self, args: Any = None, namespace: Any = None) -> Any:
        if self._within:
            return super().parse_known_args(args, namespace)
        self._within = True
        try:
            return self.parse_known_intermixed_args(args, namespace)
        finally:
            self._within = False


def add_json(command: argparse.ArgumentParser) -> None:
    command.add_argument("--json", action="store_true", help="print JSON")


def add_service(command: argparse.ArgumentParser) -> None:
    """The options of a command that talks to the service."""
    address = os.environ.get("FOND_ECHO_ADDRESS", "http://127.0.0.1:8770")
    command.add_argument("--address", default=address, help=f"of the service ({address})")
    command.add_argument("--key", default=os.environ.get("FOND_ECHO_KEY", ""), help="to the API")
    add_json(command)


def named(text: str) -> tuple[str, str]:
    """An option NAME=VALUE."""
    name, equals, value = text.partition("=")
    if not name or not equals:
        raise argparse.ArgumentTypeError(f"{text!r} is not NAME=VALUE")
    return name, value


def service(options: argparse.Namespace) -> FondEcho:
    """A client for a command's options."""
    return FondEcho(options.address, options.key)


def print_json(value: Any) -> None:
    """Shapes, lists of them or plain values, as indented JSON."""

    def plain(each: Any) -> Any:
        if isinstance(each, BaseModel):
            return each.model_dump(mode="json")
        if isinstance(each, (list, tuple)):
            return [plain(part) for part in each]
        return each

    print(json.dumps(plain(value), indent=2, ensure_ascii=False))


def table(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> None:
    """A table that fits the terminal."""
    from rich.box import SIMPLE_HEAD
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    drawn = Table(box=SIMPLE_HEAD, pad_edge=False, header_style="bold")
    for column in columns:
        drawn.add_column(column, overflow="fold")
    for row in rows:
        drawn.add_row(*(Text(str(cell)) for cell in row))
    Console(highlight=False).print(drawn)


def fail(error: FondEchoError) -> int:
    """Print an error on standard error; gives the exit code."""
    if isinstance(error, Refused) and error.problem.errors:
        for fault in error.problem.errors:
            where = f"{fault.file}:{fault.line}:{fault.column}"
            remedy = f" ({fault.remedy})" if fault.remedy else ""
            print(f"{where}: {fault.what}{remedy}", file=sys.stderr)
        return 1
    errors = getattr(error, "errors", None)
    if errors:
        for fault in errors:
            print(fault, file=sys.stderr)
        return 1
    print(f"fond-echo: {error}", file=sys.stderr)
    return UNREACHABLE if isinstance(error, Unreachable) else 1


def bar(waveform: Sequence[float], columns: int = 60) -> str:
    """A waveform as a line of block characters."""
    blocks = " ▁▂▃▄▅▆▇█"
    heights = resized(list(waveform), columns) if waveform else []
    return "".join(blocks[round(height * (len(blocks) - 1))] for height in heights)
