"""What can go wrong in `language`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class SsmlError(FondEchoError):
    """Markup that cannot be spoken; `where` is the line and column."""

    code = "ssml"


class TemplateFailed(FondEchoError):
    """A template that cannot be used, or that failed on the values it was given."""

    code = "template"

    def __init__(self, what: str, *, where: str = "", remedy: str = "", line: int = 1) -> None:
        super().__init__(what, where=where, remedy=remedy)
        self.line = line


class UnknownLanguage(FondEchoError):
    """There is no such language here."""

    code = "language-unknown"


class BadValue(ValueError):
    """A value that markup cannot have; says what would be right."""


class LexiconError(FondEchoError):
    """A lexicon that cannot be read; `line` and `column` say where."""

    code = "lexicon"

    def __init__(self, what: str, *, line: int = 1, column: int = 1, remedy: str = "") -> None:
        super().__init__(what, remedy=remedy)
        self.line, self.column = line, column
