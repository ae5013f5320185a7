"""What can go wrong in `client`."""

from __future__ import annotations

from fond_echo.contract.api import Problem
from fond_echo.core.errors import FondEchoError


class Unreachable(FondEchoError):
    """The service does not answer."""

    code = "service-unreachable"


class Refused(FondEchoError):
    """The service answered with a problem; `problem` holds it, with its errors."""

    code = "refused"

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.detail or problem.title, remedy=problem.remedy)
        self.problem = problem
