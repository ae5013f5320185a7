"""XML that people write, as a tree that knows the place of everything in it.

Without document type or entities, and bounded in depth: what could cost more than its own length is
refused.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Protocol
from xml.parsers import expat

from fond_echo.core.errors import FondEchoError


class ErrorAt(Protocol):
    """Makes the error of a format, at a place of its text."""

    def __call__(self, what: str, *, line: int, column: int, remedy: str = "") -> FondEchoError: ...


@dataclass
class Element:
    """An element without its namespace; `inside` has its elements and texts in order."""

    name: str
    attributes: dict[str, str]
    line: int
    column: int
    error_at: ErrorAt
    inside: list[Element | str] = field(default_factory=list)

    def error(self, what: str, remedy: str = "") -> FondEchoError:
        """An error at the element's place, to be raised."""
        return self.error_at(what, line=self.line, column=self.column, remedy=remedy)

    @property
    def elements(self) -> list[Element]:
        """The elements in it."""
        return [each for each in self.inside if isinstance(each, Element)]


def read_tree(text: str, error_at: ErrorAt, *, deepest: int) -> Element:
    """The root of a document.

    Args:
        error_at: makes what is raised for everything that is wrong.
        deepest: how far elements may be nested.
    """
    parser = expat.ParserCreate()
    parser.buffer_text = True
    top = Element("", {}, 1, 1, error_at)
    open_ = [top]

    def here() -> tuple[int, int]:
        return parser.CurrentLineNumber, parser.CurrentColumnNumber + 1

    def begin(name: str, attributes: dict[str, str]) -> None:
        element = Element(name.rpartition(":")[2], attributes, *here(), error_at)
        if len(open_) > deepest:
            raise element.error(f"elements are nested over {deepest} deep")
        open_[-1].inside.append(element)
        open_.append(element)

    def words(data: str) -> None:
        open_[-1].inside.append(data)

    def refused(*_: Any) -> None:
        line, column = here()
        raise error_at(
            "a document type is not read", line=line, column=column, remedy="leave it out"
        )

    parser.StartElementHandler = begin
    parser.EndElementHandler = lambda _: open_.pop()
    parser.CharacterDataHandler = words
    parser.StartDoctypeDeclHandler = refused
    parser.EntityDeclHandler = refused
    try:
        parser.Parse(text.encode("utf-8", "replace"), True)
    except expat.ExpatError as error:
        what = f"not XML: {expat.errors.messages[error.code]}"
        raise error_at(what, line=error.lineno, column=error.offset + 1) from error
    return top.elements[0]
