"""Imported where assistants are checked again and again: what a check needs is loaded here once,
and its compiled code is made, or read from where it was kept."""

from __future__ import annotations

from fond_echo.documents.checking import check
from fond_echo.documents.starter import starter_files


def warm() -> None:
    """Check a small assistant."""
    check(starter_files("first-desk"))


warm()
