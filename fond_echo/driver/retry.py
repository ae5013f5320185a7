"""What is not possible now but soon: the turn is left, and its job comes again."""

from __future__ import annotations

from datetime import UTC, datetime

from fond_echo.connectors.errors import NoAnswer, Refused, Unreachable
from fond_echo.core.errors import FondEchoError

PATIENCE_SECONDS = 300.0
"""How long a sound, or our own speech process, is waited for before the sender is told."""

OURS = frozenset(("speech-unreachable", "speech-crashed"))


def passes(error: BaseException) -> bool:
    """Whether an error is likely to be gone in a while."""
    cause = error.__cause__ or error
    if isinstance(cause, Refused):
        return cause.status >= 500 or cause.status in (408, 425, 429)
    if isinstance(cause, (Unreachable, NoAnswer)):
        return True
    return isinstance(error, FondEchoError) and error.code in OURS


def max_pause(error: BaseException) -> float:
    """Our own speech process is back in seconds; the outside is not asked so often."""
    return 4.0 if isinstance(error, FondEchoError) and error.code in OURS else 60.0


def pause(
    since: datetime, *, patience: float = PATIENCE_SECONDS, most: float = 60.0
) -> float | None:
    """Seconds until the next try, longer with every one; None once patience is at an end."""
    waited = (datetime.now(UTC) - since).total_seconds()
    if waited > patience:
        return None
    return min(most, max(1.0, waited / 2))
