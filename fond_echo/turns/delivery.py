"""A delivery as it is planned."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class PlannedDelivery:
    """One thing to send: a kind, its place in the turn, and its content."""

    kind: str
    part: int
    text: str = ""
    clip_id: str | None = None
    extra: dict[str, Any] = field(default_factory=dict)
