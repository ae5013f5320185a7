"""What can go wrong outside."""

from __future__ import annotations

from typing import Any

from fond_echo.core.errors import FondEchoError


class OutsideError(FondEchoError):
    """An exchange with an outside service failed.

    `answered` says whether the service may have acted on the request: only where it is False
    is it certain that nothing happened there.
    """

    code = "outside"
    answered = True

    def __init__(self, what: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(what, where=where, remedy=remedy)
        self.exchanges: list[Any] = []
        """The exchanges made so far, the failed one included."""


class ForbiddenAddress(OutsideError):
    """The address guard refuses to go there."""

    code = "outside-forbidden-address"
    answered = False


class Unreachable(OutsideError):
    """No connection could be made: nothing was sent."""

    code = "outside-unreachable"
    answered = False


class NoAnswer(OutsideError):
    """The request went out, and no complete answer came back in time."""

    code = "outside-no-answer"


class Refused(OutsideError):
    """The service answered with an error status."""

    code = "outside-refused"

    def __init__(self, what: str, *, status: int, where: str = "", remedy: str = "") -> None:
        super().__init__(what, where=where, remedy=remedy)
        self.status = status


class WrongAnswer(OutsideError):
    """The answer is not what the description says it is."""

    code = "outside-wrong-answer"


class SecretMisused(OutsideError):
    """A secret that does not exist, or that may not go to this host."""

    code = "outside-secret"
    answered = False


class LogicFailed(OutsideError):
    """Business logic did not answer, or not as it should."""

    code = "logic-failed"
