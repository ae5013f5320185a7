"""The text of PDFs in an assistant's folder: read once, in a process of its own, and kept by what
the file holds, in memory and on disk."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Mapping
from pathlib import Path

from fond_echo.core.caching import Recent
from fond_echo.core.dialogue.errors import UnreadableDocument
from fond_echo.documents.media import bytes_of, suffix
from fond_echo.documents.pdf_reader import WRONG

SUFFIX = ".pdf"
SECONDS = 40.0
"""So long a file may take; 500 pages of text take three seconds."""

MOST_KEPT = 200
"""Texts on disk; those that were written first go."""

_kept: Recent[str, str] = Recent(20_000_000, len)


def is_pdf(name: str) -> bool:
    """Whether a file of this name is a PDF."""
    return suffix(name) == SUFFIX


def read_ahead(files: Mapping[str, str]) -> None:
    """Read the PDFs of a bundle, so that their text is at hand where the bundle is checked. What
    is wrong with one is said there."""
    for name, text in files.items():
        if is_pdf(name):
            with contextlib.suppress(UnreadableDocument):
                markdown_of_pdf(name, text)


def markdown_of_pdf(name: str, text: str) -> str:
    """The text of a PDF as Markdown, with a heading for each page.

    Args:
        text: the file as it stands in a bundle (base64).

    Raises:
        UnreadableDocument: it says what is wrong with it, and what would help.
    """
    try:
        data = bytes_of(text)
    except ValueError as error:
        raise UnreadableDocument(
            f"{name} is not base64", remedy="put the folder with assistant put"
        ) from error
    of = hashlib.sha256(data).hexdigest()
    found = _kept.get(of)
    if found is None:
        file = _folder() / of
        found = file.read_text(encoding="utf-8") if file.is_file() else _read(name, data)
        _kept.keep(of, found)
        with contextlib.suppress(OSError):  # where no files may be written, it is read again
            # What is wrong may be so on a busy day only.
            if not found.startswith(WRONG) and not file.is_file():
                _written(file, found)
    if found.startswith(WRONG):
        what, _, remedy = json.loads(found[len(WRONG) :]).partition(": ")
        raise UnreadableDocument(f"{name}: {what}", remedy=remedy)
    return found


def _read(name: str, data: bytes) -> str:
    command = [sys.executable, "-m", "fond_echo.documents.pdf_reader"]
    try:
        done = subprocess.run(
            command, input=data, capture_output=True, timeout=SECONDS, check=False
        )
    except subprocess.TimeoutExpired:
        return WRONG + json.dumps(f"it took over {SECONDS:g} s to read: cut it into several")
    if done.returncode:
        return WRONG + json.dumps("it took too much memory or time: cut it into several")
    return done.stdout.decode("utf-8")


def _folder() -> Path:
    """Where texts are kept: a folder of this user's alone."""
    folder = Path(tempfile.gettempdir()) / f"fond-echo-pages-{os.getuid()}"
    with contextlib.suppress(OSError):
        folder.mkdir(mode=0o700, exist_ok=True)
        about = folder.lstat()
        if about.st_uid == os.getuid() and folder.is_dir() and not folder.is_symlink():
            return folder
    return Path(os.devnull)


def _written(file: Path, text: str) -> None:
    """Written whole or not at all."""
    handle, name = tempfile.mkstemp(dir=file.parent)
    try:
        with os.fdopen(handle, "w", encoding="utf-8") as out:
            out.write(text)
        os.replace(name, file)
        kept = sorted(file.parent.iterdir(), key=lambda each: each.stat().st_mtime)
        for each in kept[:-MOST_KEPT]:
            each.unlink(missing_ok=True)
    except OSError:
        Path(name).unlink(missing_ok=True)
        raise
