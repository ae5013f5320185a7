"""What can go wrong in `running`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class DidNotStart(FondEchoError):
    """A process ended, or did not answer, while it was being started."""

    code = "did-not-start"
