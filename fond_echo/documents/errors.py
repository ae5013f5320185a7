"""What is wrong in a file, and where."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from difflib import get_close_matches

from fond_echo.core.errors import FondEchoError


@dataclass(frozen=True, order=True)
class FileError:
    """One thing wrong in a file; lines and columns count from 1."""

    file: str
    line: int
    column: int
    what: str
    remedy: str = ""

    def __str__(self) -> str:
        text = f"{self.file}:{self.line}:{self.column}: {self.what}"
        return f"{text} ({self.remedy})" if self.remedy else text


MAX_ERRORS = 100
"""So many are listed; whoever corrected them sees the rest."""


class InvalidFile(FondEchoError):
    """A file with errors in it; `errors` lists them, the first hundred and how many more there are.

    Args:
        more: errors that were found beside those that are given.
    """

    code = "file-invalid"

    def __init__(self, errors: Sequence[FileError], more: int = 0) -> None:
        total = len(errors) + more
        rest = f" (and {total - 1} more)" if total > 1 else ""
        super().__init__(f"{errors[0]}{rest}")
        listed = sorted(errors)[:MAX_ERRORS]
        if total > MAX_ERRORS:
            last, count = listed[-1], total - len(listed)
            listed.append(FileError(last.file, last.line, last.column, f"{count:,} more errors",
                                    "correct these first, then check again"))  # fmt: skip
        self.errors = tuple(listed)


MAX_NAME = 100
"""Characters of a name that are looked at for one that is like it."""


def nearest(name: str, known: Iterable[str]) -> str:
    """A remedy that names the nearest right name, or all of them where none is near."""
    names = sorted(known)
    name = name[:MAX_NAME]
    found = get_close_matches(name, names, n=1, cutoff=0.6)
    if found:
        return f"did you mean {found[0]}?"
    return f"known: {', '.join(names[:12])}" if names else "none are known"


class NoPattern(ValueError):
    """A text that is no I-Regexp, or one that takes too much memory."""


class NotAnExample(FondEchoError):
    """Something that no connector file can be drafted from."""

    code = "example"


class NotABundle(FondEchoError):
    """A file that is no bundle, was changed since it was made, or is of a newer kind."""

    code = "bundle"


class NotAllowed(FondEchoError):
    """A number that may not be called."""

    code = "number-not-allowed"
