"""What can go wrong in `channels`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class CallOver(FondEchoError):
    """There is nobody any more who could hear it: the call is over."""

    code = "call-over"


class UnreadableMessage(FondEchoError):
    """A message in which what must be there is missing."""

    code = "message-unreadable"


class NoAdapter(FondEchoError):
    """There is no adapter of that name, or it does not load."""

    code = "adapter"
