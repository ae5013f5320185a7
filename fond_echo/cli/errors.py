"""What can go wrong in `cli`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class NotInstalled(FondEchoError):
    """A command needs more than the base install has."""

    code = "not-installed"


class FolderNotEmpty(FondEchoError):
    """A new assistant would be written over files that are there."""

    code = "folder-not-empty"


class Unreadable(FondEchoError):
    """A file that a command should read is not there, or is no text."""

    code = "file-unreadable"


class NoContact(FondEchoError):
    """No contact of that name or id on the channel."""

    code = "contact-missing"


class NotFacts(FondEchoError):
    """A file that should say what to remember does not."""

    code = "facts-unreadable"


class NotAlike(FondEchoError):
    """Engines that do not do the same."""

    code = "engines-not-alike"


class NothingToRun(FondEchoError):
    """A folder without anything for engines."""

    code = "bench-empty"


class NotAConversation(FondEchoError):
    """A file that is no exported conversation, or a conversation that is not there."""

    code = "conversation"


class NoFolder(FondEchoError):
    """The folder of an assistant is not there."""

    code = "folder-missing"


class OptionsClash(FondEchoError):
    """An option that has no effect beside what else is given."""

    code = "options"


class FollowRefused(FondEchoError):
    """The service does not tell this key what happens."""

    code = "follow-refused"


class NotSaid(FondEchoError):
    """Something that a command needs to know was not given."""

    code = "not-said"
