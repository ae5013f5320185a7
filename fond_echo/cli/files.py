"""Files that commands read; an error names the file that cannot be read."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

from fond_echo.cli.errors import Unreadable

STDIO = "-"
"""Names standard input and output."""


def bytes_in(file: Path) -> bytes:
    """A file's bytes; those of standard input for "-". Raises Unreadable."""
    if str(file) == STDIO:
        return sys.stdin.buffer.read()
    try:
        return file.read_bytes()
    except OSError as error:
        raise Unreadable(f"{file}: {error.strerror}") from error


def json_in(file: Path) -> Any:
    """A file's JSON. Raises Unreadable."""
    try:
        return json.loads(text_in(file))
    except ValueError as error:
        raise Unreadable(f"{file} is not JSON: {error}") from error


def text_in(file: Path) -> str:
    """A file's text. Raises Unreadable."""
    try:
        return bytes_in(file).decode("utf-8")
    except UnicodeDecodeError as error:
        raise Unreadable(
            f"{file} is not UTF-8 text: its byte {error.start} is {error.object[error.start]:#04x}"
        ) from error
