"""What can go wrong in `web`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class NotCheckable(FondEchoError):
    """Files whose check takes too much memory or time."""

    code = "files-not-checkable"


class NotAState(FondEchoError):
    """The state of a try was not given by a try before."""

    code = "request"


class TooManyTries(FondEchoError):
    """An address gave too many wrong keys lately."""

    code = "too-many"


class NotFound(FondEchoError):
    """What was asked for does not exist."""

    code = "not-found"


class NotAllowed(FondEchoError):
    """The key does not have the scope, or there is no key."""

    code = "not-allowed"


class NotSignedIn(FondEchoError):
    """No key, or one that is not valid."""

    code = "not-signed-in"


class Conflict(FondEchoError):
    """What is asked does not fit what is there."""

    code = "conflict"


class LinkForged(FondEchoError):
    """A link that is not one of ours, or for another clip, or another time."""

    code = "link-forged"


class LinkExpired(FondEchoError):
    """A link whose time is over."""

    code = "link-expired"


class TooBusy(FondEchoError):
    """More is being asked than is worked on at once."""

    code = "too-busy"


class NothingAsked(FondEchoError):
    """A request with neither text nor sound."""

    code = "nothing-asked"


class BadCursor(FondEchoError):
    """A cursor that was not given by this list."""

    code = "cursor"


class NotJson(FondEchoError):
    """A webhook whose body is not JSON."""

    code = "message-not-json"


class TooLarge(FondEchoError):
    """A request body over the limit."""

    code = "too-large"


class NotUsable(FondEchoError):
    """A body that is JSON, but that nothing could be done with."""

    code = "request"


class TooMany(FondEchoError):
    """A guest, or an address, has had what it may have."""

    code = "too-many"
