"""What can go wrong in `phone`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class LinkClosed(FondEchoError):
    """The other process is gone."""

    code = "link-closed"


class Failed(FondEchoError):
    """What was called in the other process of the telephone failed."""

    code = "link-failed"


class NoOpening(FondEchoError):
    """There is nothing that could be said first."""

    code = "call-opening"


class NoPorts(FondEchoError):
    """All ports for sound are taken."""

    code = "no-media-ports"
