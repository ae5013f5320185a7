"""What is remembered of a contact: facts by name, some until a day, kept in one JSON value."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

UNTIL = "_until"
"""Where the memory keeps when facts end; no fact has that name."""


def facts(memory: Mapping[str, Any], now: datetime) -> dict[str, Any]:
    """What is still remembered."""
    until: Mapping[str, str] = memory.get(UNTIL, {})
    return {
        name: value
        for name, value in memory.items()
        if name != UNTIL and (name not in until or datetime.fromisoformat(until[name]) > now)
    }


def with_facts(
    memory: Mapping[str, Any], remember: Mapping[str, Any], days: int, now: datetime
) -> dict[str, Any]:
    """The memory with facts added, replaced, or forgotten (None)."""
    kept = facts(memory, now)
    until = {name: end for name, end in memory.get(UNTIL, {}).items() if name in kept}
    for name, value in remember.items():
        until.pop(name, None)
        if value is None or name == UNTIL:
            kept.pop(name, None)
            continue
        kept[name] = value
        if days:
            until[name] = (now + timedelta(days=days)).isoformat()
    return {**kept, UNTIL: until} if until else kept
