"""What can go wrong in `grammar`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class GrammarError(FondEchoError):
    """A grammar that is wrong, or too large. `line` and `column` count from 1; 0 is unknown."""

    code = "grammar"

    def __init__(self, what: str, *, line: int = 0, column: int = 0, remedy: str = "") -> None:
        where = f"line {line}, column {column}" if line else ""
        super().__init__(what, where=where, remedy=remedy)
        self.line = line
        self.column = column
