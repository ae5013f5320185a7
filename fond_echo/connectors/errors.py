"""What can go wrong outside."""

from __future__ import annotations

from typing import Any

from fond_echo.core.errors import FondEchoError


class ConnectorError(FondEchoError):
    """An exchange with an outside service failed.

    `answered` says whether the service may have acted on the request: only where it is False
    is it certain that nothing happened there.
    """

    code = "connector"
    answered = True

    def __init__(self, what: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(what, where=where, remedy=remedy)
        self.exchanges: list[Any] = []
        """The exchanges made so far, the failed one included."""


class ForbiddenAddress(ConnectorError):
    """The address guard refuses to go there."""

    code = "connector-forbidden-address"
    answered = False


class Unreachable(ConnectorError):
    """No connection could be made: nothing was sent."""

    code = "connector-unreachable"
    answered = False


class NoAnswer(ConnectorError):
    """The request went out, and no complete answer came back in time."""

    code = "connector-no-answer"


class Refused(ConnectorError):
    """The service answered with an error status."""

    code = "connector-refused"

    def __init__(
        self, what: str, *, status: int, where: str = "", remedy: str = "", retry_after: float = 0.0
    ) -> None:
        super().__init__(what, where=where, remedy=remedy)
        self.status = status
        self.retry_after = retry_after
        """Seconds for which the service asks to be left alone (RFC 9110 §10.2.3); 0 where it does
        not."""


class WrongAnswer(ConnectorError):
    """The answer is not what the description says it is."""

    code = "connector-wrong-answer"


class SecretMisused(ConnectorError):
    """A secret that does not exist, or that may not go to this host."""

    code = "connector-secret"
    answered = False


class LogicFailed(ConnectorError):
    """Business logic did not answer, or not as it should."""

    code = "logic-failed"


class Forged(FondEchoError):
    """A webhook that does not prove its origin."""

    code = "webhook-forged"
