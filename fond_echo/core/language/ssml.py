"""Speech Synthesis Markup Language 1.1, as far as our voice follows it: what is said, and pauses.

`p`, `s` and `break` become pauses, `sub` its alias, `say-as` letters or digits one by one;
`emphasis`, `prosody`, `voice`, `lang` and `mark` are passed over and their words spoken. Without
document type or entities, bounded in depth and length; `audio` and anything unknown is refused.
"""

from __future__ import annotations

import re
from typing import Any
from xml.parsers import expat

from fond_echo.core.errors import FondEchoError

MAX_CHARACTERS = 20_000
DEEPEST = 20

_PASSED = frozenset("speak p s emphasis prosody voice lang w token phoneme".split())
_STRENGTHS = {
    "none": "", "x-weak": " ", "weak": ", ", "medium": ", ", "strong": ". ", "x-strong": ".\n"
}  # fmt: skip
_TIME = re.compile(r"(\d+(?:\.\d+)?)(ms|s)")


class SsmlError(FondEchoError):
    """Markup that cannot be spoken; `where` is the line and column."""

    code = "ssml"


def is_ssml(text: str) -> bool:
    """Whether a text is meant as markup."""
    return text.lstrip().startswith("<speak")


class _Reader:
    def __init__(self) -> None:
        self.parser = expat.ParserCreate()
        self.parser.buffer_text = True
        self.parser.StartElementHandler = self._begin
        self.parser.EndElementHandler = self._end
        self.parser.CharacterDataHandler = self._words
        self.parser.StartDoctypeDeclHandler = self._refused
        self.parser.EntityDeclHandler = self._refused
        self._open: list[tuple[str, dict[str, str]]] = []
        self.said: list[str] = []

    def error(self, what: str, remedy: str = "") -> SsmlError:
        line, column = self.parser.CurrentLineNumber, self.parser.CurrentColumnNumber + 1
        return SsmlError(what, where=f"line {line}, column {column}", remedy=remedy)

    def _refused(self, *_: Any) -> None:
        raise self.error("a document type is not read", "leave it out")

    def _begin(self, name: str, attributes: dict[str, str]) -> None:
        name = name.rpartition(":")[2]
        if len(self._open) >= DEEPEST:
            raise self.error(f"elements are nested over {DEEPEST} deep")
        if not self._open and name != "speak":
            raise self.error(f"the document is a {name!r}, not speak")
        if name == "break":
            self.said.append(self._pause(attributes))
        elif name == "sub":
            self.said.append(f" {attributes.get('alias', '')} ")
        elif name not in _PASSED and name not in ("say-as", "mark", "desc"):
            raise self.error(f"<{name}> is not spoken", "leave it out")
        self._open.append((name, attributes))

    def _end(self, _: str) -> None:
        name, _attributes = self._open.pop()
        if name in ("p", "s"):
            self.said.append(".\n" if name == "p" else ". ")

    def _words(self, data: str) -> None:
        names = [name for name, _ in self._open]
        if "sub" in names or "desc" in names:
            return
        kinds = [each.get("interpret-as", "") for name, each in self._open if name == "say-as"]
        if kinds and kinds[-1] in ("characters", "spell-out", "digits", "telephone"):
            data = " ".join(character for character in data if character.isalnum())
        self.said.append(data)

    def _pause(self, attributes: dict[str, str]) -> str:
        given = attributes.get("time", "")
        if not given:
            strength = attributes.get("strength", "medium")
            if strength not in _STRENGTHS:
                raise self.error(f"strength {strength!r} is none of {', '.join(_STRENGTHS)}")
            return _STRENGTHS[strength]
        match = _TIME.fullmatch(given)
        if not match:
            raise self.error(f"time {given!r} is not like 300ms or 1s")
        seconds = float(match[1]) / (1_000 if match[2] == "ms" else 1)
        if seconds < 0.1:
            return " "
        return ", " if seconds < 0.35 else ". " if seconds < 0.7 else ".\n"


def plain_of(text: str) -> str:
    """The words of SSML, with punctuation where it pauses.

    Raises:
        SsmlError: with the place of what is wrong.
    """
    if len(text) > MAX_CHARACTERS:
        raise SsmlError(f"over {MAX_CHARACTERS:,} characters are not spoken")
    reader = _Reader()
    try:
        reader.parser.Parse(text.strip().encode(), True)
    except expat.ExpatError as error:
        where = f"line {error.lineno}, column {error.offset + 1}"
        raise SsmlError(f"not XML: {expat.errors.messages[error.code]}", where=where) from error
    said = re.sub(r"[ \t]+", " ", "".join(reader.said))
    return re.sub(r"\s*([.,])(?:\s*[.,])*", r"\1", said).strip(" ,\n")
