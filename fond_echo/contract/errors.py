"""What can go wrong in `contract`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class BadSignature(FondEchoError):
    """A request that is not signed as it should be."""

    code = "signature"
