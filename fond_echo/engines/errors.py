"""What can go wrong in `engines`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class AllEnginesFailed(FondEchoError):
    """None of the engines that an assistant names gave an answer."""

    code = "engines-failed"


class NoEngine(FondEchoError):
    """No engine of a kind does what is wanted."""

    code = "no-engine"


class EngineMisnamed(FondEchoError):
    """Two engines of one kind have the same name, or an entry point is no engine."""

    code = "engine-misnamed"
