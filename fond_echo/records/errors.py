"""What can go wrong in `records`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class CannotAnnounce(FondEchoError):
    """Nothing can be said in a conference room."""

    code = "announcement"


class StaleWorker(FondEchoError):
    """Another worker has taken the turn; this one must stop."""

    code = "worker-stale"


class WordsInRevisions(FondEchoError):
    """A contact that is to be erased has words in revisions of assistants."""

    code = "words-in-revisions"
