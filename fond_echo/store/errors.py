"""What can go wrong in `store`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class SecretLocked(FondEchoError):
    """None of the keys in the settings decrypts the secret."""

    code = "secret-locked"


class NewerQueue(FondEchoError):
    """The queue's tables are newer than the library that is installed."""

    code = "queue-newer"


class NewerDatabase(FondEchoError):
    """The database was migrated by a newer version of this program."""

    code = "database-newer"


class OlderDatabase(FondEchoError):
    """The database was made before the first release, whose tables are others."""

    code = "database-older"


class NoPostgres(FondEchoError):
    """PostgreSQL is not installed, or does not start."""

    code = "postgres"


class QuotaReached(FondEchoError):
    """A key has used what it may use in a day."""

    code = "too-many"


class MissingBlob(FondEchoError):
    """The bytes are not there, or not any more."""

    code = "blob-missing"


class MissingClip(FondEchoError):
    """There is no clip of that id."""

    code = "clip-missing"


class TurnErased(FondEchoError):
    """The turn that sound was made for has been erased meanwhile."""

    code = "turn-erased"
