"""What can go wrong in `stages`."""

from __future__ import annotations

from fond_echo.turns.errors import StageError


class NotRun(StageError):
    """Business logic that may not be asked outside a live run, because asking changes things."""

    code = "not-run"
