"""Reads a PDF that a stranger may have made, in a process of its own: bytes come by standard input,
and Markdown goes out, or one line of JSON that says why there is none.

    python -m fond_echo.documents.pdf_reader < handbook.pdf
"""

from __future__ import annotations

import io
import json
import logging
import re
import resource
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

MEMORY, CPU_SECONDS = 1_500_000_000, 60
"""What it may take beside what it begins with."""

MAX_PAGES = 3_000
MAX_CHARACTERS = 5_000_000
MIN_CHARACTERS = 20
"""In all its pages; with fewer they are pictures."""

WRONG = "\x00"
"""Stands before what is wrong, in place of the text."""


def markdown_of(data: bytes) -> str:
    """The text of a PDF (ISO 32000), a heading for each page: the outline's entry that it lies
    under, and its number.

    Raises:
        ValueError: it is locked, has no text, or is none; with what would help.
    """
    from pypdf import PdfReader
    from pypdf.errors import PyPdfError

    logging.getLogger("pypdf").setLevel(logging.ERROR)
    try:
        reader = PdfReader(io.BytesIO(data))
        if reader.is_encrypted and not reader.decrypt(""):
            raise ValueError("it is locked with a password: save a copy without one")
        if len(reader.pages) > MAX_PAGES:
            raise ValueError(f"it has over {MAX_PAGES:,} pages: cut it into several")
        titles = dict(_outline(reader, reader.outline))
        parts, size, title = list[str](), 0, ""
        for number, page in enumerate(reader.pages, 1):
            title = titles.get(number, title)
            text = _paragraphs(page.extract_text() or "")
            size += len(text)
            if size > MAX_CHARACTERS:
                raise ValueError(f"it has over {MAX_CHARACTERS:,} characters: cut it into several")
            if text:
                heading = f"{title}, page {number}" if title else f"page {number}"
                parts.append(f"# {heading}\n\n{text}")
    except (PyPdfError, OSError, KeyError, TypeError, AttributeError, IndexError) as error:
        reason = str(error) or type(error).__name__
        raise ValueError(f"it cannot be read ({reason[:120]}): save it anew") from error
    except RecursionError as error:
        raise ValueError("it is nested too deeply: save it anew") from error
    if size < MIN_CHARACTERS:
        raise ValueError("it holds pictures of pages and no text: save it with its text")
    return "\n\n".join(parts)


def _outline(reader: Any, entries: Any, depth: int = 0) -> Iterator[tuple[int, str]]:
    """The titles of the outline, by the page that they lead to; of several on a page, the
    last."""
    for entry in entries if depth < 5 else ():
        if isinstance(entry, list):
            yield from _outline(reader, entry, depth + 1)
            continue
        page = reader.get_destination_page_number(entry)
        title = " ".join(str(entry.title).split())[:120]
        if page is not None and page >= 0 and title:
            yield page + 1, title


def _paragraphs(text: str) -> str:
    """The lines of a page joined to paragraphs: a word that was cut at a line's end is whole again,
    and a line that ends a sentence well before the others do ends its paragraph."""
    bare = (" ".join(line.split()) for line in text.splitlines())
    # What looks like a heading of Markdown is none.
    lines = [f"\\{line}" if re.match(r"#{1,6}\s", line) else line for line in bare]
    widest = max(map(len, lines), default=0)
    paragraphs, paragraph = list[str](), ""
    for line in lines:
        if not line:
            paragraphs, paragraph = [*paragraphs, paragraph], ""
            continue
        if paragraph.endswith("-") and line[0].islower():
            paragraph = paragraph[:-1] + line
        else:
            paragraph = f"{paragraph} {line}".strip()
        if len(line) < 0.7 * widest and line[-1] in ".!?:":
            paragraphs, paragraph = [*paragraphs, paragraph], ""
    return "\n\n".join(each for each in [*paragraphs, paragraph] if each)


def main() -> None:
    pages = int(Path("/proc/self/statm").read_text().split()[0])
    memory = MEMORY + pages * resource.getpagesize()
    for kind, most in (
        (resource.RLIMIT_AS, memory), (resource.RLIMIT_CPU, CPU_SECONDS),
        (resource.RLIMIT_FSIZE, 0),
    ):  # fmt: skip
        _, hard = resource.getrlimit(kind)
        least = most if hard == resource.RLIM_INFINITY else min(most, hard)
        resource.setrlimit(kind, (least, hard))
    try:
        found = markdown_of(sys.stdin.buffer.read())
    except ValueError as error:
        found = WRONG + json.dumps(str(error))
    except MemoryError:
        found = WRONG + json.dumps("it takes too much memory: save it anew, or cut it into several")
    except Exception as error:  # whatever hostile bytes bring about in a reader
        found = WRONG + json.dumps(f"it cannot be read ({type(error).__name__}): save it anew")
    sys.stdout.buffer.write(found.encode("utf-8", "replace"))


if __name__ == "__main__":
    main()
