"""What installed packages offer to assistants: voices of their engines."""

from __future__ import annotations

from functools import lru_cache
from importlib.metadata import entry_points

from fond_echo.core.synthesis.speaker import VOICES

GROUP = "fond_echo.engines"
"""The entry point group of engines (`fond_echo.engines.registry`)."""


@lru_cache(maxsize=1)
def known_voices() -> frozenset[str]:
    """Our own voices, and those of installed engines. An engine that does not load has none: that
    is reported when the service starts."""
    found = set(VOICES)
    for point in entry_points(group=GROUP):
        try:
            found |= set(getattr(point.load(), "voices", ()))
        except Exception:  # whatever a package raises
            continue
    return frozenset(found)
