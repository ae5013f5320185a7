"""The root of every typed error in Fond Echo."""

from __future__ import annotations

from typing import ClassVar


class FondEchoError(Exception):
    """An error that says what was wrong, where, and what would be right.

    `code` is the stable name of the kind of error: it is recorded on turns, returned as the
    `type` of an RFC 9457 problem and documented in docs/reference/errors.md.
    """

    code: ClassVar[str] = "error"

    def __init__(self, what: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.remedy = remedy

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        return f"{text} ({self.remedy})" if self.remedy else text


class Exhausted(FondEchoError):
    """A child used up its memory or its time."""

    code = "work-exhausted"
