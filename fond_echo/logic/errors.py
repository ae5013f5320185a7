"""What can go wrong in `logic`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class NotAReply(FondEchoError):
    """A function answered something that is no reply."""

    code = "action-not-answered"


class UnknownAction(FondEchoError):
    """No function answers the action."""

    code = "action-unknown"
