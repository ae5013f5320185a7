"""What can go wrong in `driver`."""

from __future__ import annotations

from fond_echo.connectors.errors import LogicFailed
from fond_echo.core.errors import FondEchoError


class InDoubt(FondEchoError):
    """A delivery may or may not have gone out, and the channel says to hold it."""

    code = "delivery-in-doubt"


class AskedBefore(LogicFailed):
    """Business logic may have been asked already, and would take the same question for another."""

    code = "asked-before"


class RetryLater(Exception):
    """Leave the turn for some seconds."""

    def __init__(self, seconds: float) -> None:
        super().__init__(f"in {seconds:g} s")
        self.seconds = seconds
