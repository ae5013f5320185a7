"""What can go wrong in `recognition`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class HearingError(FondEchoError):
    """The sound cannot be transcribed as asked."""

    code = "hearing"


class NothingExpected(HearingError):
    """Only what is expected is to be heard, but nothing is."""

    code = "hearing-nothing-expected"
