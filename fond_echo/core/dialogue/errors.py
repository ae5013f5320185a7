"""Errors of what is understood and answered."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class UnreadableDocument(FondEchoError):
    """A document cannot be searched: it is of a kind that is not read, or its table is none."""

    code = "unreadable-document"
