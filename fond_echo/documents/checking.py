"""Checking an assistant's files, as what can be sent to another process and back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from fond_echo.documents.faults import Fault, FaultyFile
from fond_echo.documents.foresight import troubles
from fond_echo.documents.reading import read_assistant


@dataclass(frozen=True)
class Report:
    """What a check found: every fault, or, where there is none, what will be trouble; and the
    assistant's name."""

    assistant: str = ""
    faults: tuple[Fault, ...] = ()
    troubles: tuple[Fault, ...] = ()

    def raise_faults(self) -> None:
        """Raises FaultyFile where there are faults."""
        if self.faults:
            raise FaultyFile(self.faults)


def check(files: Mapping[str, str]) -> Report:
    """Check a bundle of files."""
    try:
        assistant = read_assistant(files)
    except FaultyFile as error:
        return Report(faults=error.faults)
    return Report(assistant.assistant, (), tuple(troubles(assistant, files)))
