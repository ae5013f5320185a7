"""What can go wrong in `demo`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class WorldIncomplete(FondEchoError):
    """The demo world could not be put together."""

    code = "demo-world"
