"""Documents as people have them, as Markdown: web pages (HTML), tables (CSV), plain text."""

from __future__ import annotations

import csv
import io
import re
from html.parser import HTMLParser

from fond_echo.core.dialogue.errors import UnreadableDocument

READABLE = (".md", ".txt", ".html", ".htm", ".csv")
"""Suffixes of documents that can be searched."""

MAX_ROWS, MAX_COLUMNS = 20_000, 100
MAX_CELL = 2_000
"""Of a table; what is longer is an error, or is cut where it is a cell."""


def as_markdown(name: str, text: str) -> str:
    """A document as Markdown, by its name's suffix.

    Raises:
        UnreadableDocument: it is of another kind, or its table has no header, or is too large.
    """
    suffix = f".{name.lower().rpartition('.')[2]}"
    if suffix in (".md", ".txt"):
        return text
    if suffix in (".html", ".htm"):
        page = _Page()
        page.feed(text)
        page.close()
        return page.markdown
    if suffix == ".csv":
        return _rows(name, text)
    raise UnreadableDocument(
        f"{name} is not text that can be searched",
        remedy=f"save it as one of {', '.join(READABLE)} or .pdf",
    )


_BLOCKS = frozenset(
    (
        "p div section article main ul ol dl dt dd table tr blockquote pre figure figcaption "
        "address details summary form br hr"
    ).split()
)
_SKIPPED = frozenset("script style nav template noscript svg head iframe button select".split())
_VOID = frozenset("br hr img input link meta area base col embed source track wbr".split())


class _Page(HTMLParser):
    """Takes the text of a web page with its headings, lists and tables (HTML Living Standard)."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self._parts: list[str] = []
        self._skipped = 0
        self._title = False
        self._title_text = ""

    @property
    def markdown(self) -> str:
        text = "".join(self._parts)
        lines = [re.sub(r"[ \t\xa0]+", " ", line).strip() for line in text.splitlines()]
        body = re.sub(r"\n{3,}", "\n\n", "\n".join(lines)).strip()
        title = " ".join(self._title_text.split())
        return f"# {title}\n\n{body}" if title and not body.startswith("# ") else body

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag == "title":
            self._title = True
        if tag in _SKIPPED:
            self._skipped += 1
        if self._skipped:
            return
        if re.fullmatch(r"h[1-6]", tag):
            self._parts.append(f"\n\n{'#' * int(tag[1])} ")
        elif tag == "li":
            self._parts.append("\n- ")
        elif tag in ("td", "th"):
            self._parts.append(" | ")
        elif tag in ("tr", "br"):
            self._parts.append("\n")
        elif tag in _BLOCKS:
            self._parts.append("\n\n")

    def handle_endtag(self, tag: str) -> None:
        if tag == "title":
            self._title = False
        if tag in _SKIPPED and tag not in _VOID:
            self._skipped = max(0, self._skipped - 1)
        elif not self._skipped and (re.fullmatch(r"h[1-6]", tag) or tag in _BLOCKS - {"br", "tr"}):
            self._parts.append("\n\n")

    def handle_data(self, data: str) -> None:
        if self._title:
            self._title_text += data
        elif not self._skipped:
            self._parts.append(re.sub(r"\s+", " ", data))


def _rows(name: str, text: str) -> str:
    """A table: a paragraph for each row, its cells by their columns' names."""
    try:
        dialect: type[csv.Dialect] | csv.Dialect = csv.Sniffer().sniff(text[:10_000], ",;\t|")
    except csv.Error:
        dialect = csv.excel
    try:
        rows = [row for row in csv.reader(io.StringIO(text), dialect) if any(map(str.strip, row))]
    except csv.Error as error:
        raise UnreadableDocument(f"{name} is no table: {error}") from error
    if len(rows) < 2:
        raise UnreadableDocument(
            f"{name} has no rows under its header", remedy="name the columns in its first row"
        )
    if len(rows) > MAX_ROWS or len(rows[0]) > MAX_COLUMNS:
        raise UnreadableDocument(
            f"{name} has {len(rows):,} rows and {len(rows[0])} columns",
            remedy=f"at most {MAX_ROWS:,} rows and {MAX_COLUMNS} columns are searched",
        )
    header = [cell.strip() or f"column {place}" for place, cell in enumerate(rows[0], 1)]
    paragraphs = []
    for row in rows[1:]:
        cells = [
            f"{column}: {' '.join(cell.split())[:MAX_CELL]}"
            for column, cell in zip(header, row, strict=False)
            if cell.strip()
        ]
        paragraphs.append(", ".join(cells) + ".")
    return "\n\n".join(paragraphs)
