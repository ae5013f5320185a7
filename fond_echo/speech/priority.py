"""Whose speech work goes first."""

from __future__ import annotations

from enum import IntEnum


class Priority(IntEnum):
    """Lower goes first."""

    CALL = 0
    VOICE_NOTE = 1
    LONG_FILE = 2
