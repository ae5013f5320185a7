"""What can go wrong in `answers`."""

from __future__ import annotations

from fond_echo.turns.errors import StageError


class NoHelper(StageError):
    """No engine is named for what a reply needs."""

    code = "engines-failed"


class NoFreeAnswer(StageError):
    """An engine did not come to an answer."""

    code = "engines-failed"


class WrongRoute(StageError):
    """An answer names a route that cannot go on with the turn."""

    code = "logic-failed"
