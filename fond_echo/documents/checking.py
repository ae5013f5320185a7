"""Checking an assistant's files, as what can be sent to another process and back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from fond_echo.documents.errors import FileError, InvalidFile
from fond_echo.documents.foresight import warnings
from fond_echo.documents.reading import read_assistant


@dataclass(frozen=True)
class Report:
    """What a check found: all errors, or, without errors, all warnings; and the
    assistant's name."""

    assistant: str = ""
    errors: tuple[FileError, ...] = ()
    warnings: tuple[FileError, ...] = ()

    def raise_errors(self) -> None:
        """Raises InvalidFile where there are errors."""
        if self.errors:
            raise InvalidFile(self.errors)


def check(files: Mapping[str, str]) -> Report:
    """Check a bundle of files."""
    try:
        assistant = read_assistant(files)
    except InvalidFile as error:
        return Report(errors=error.errors)
    return Report(assistant.assistant, (), tuple(warnings(assistant, files)))
