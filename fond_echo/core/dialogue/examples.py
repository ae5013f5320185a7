"""Examples as they are compared: everything that hangs on one text alone, found once a text."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

from fond_echo.core.dialogue.kinds import KindMarker
from fond_echo.core.language.language import Language

KEPT = 50_000
"""Texts of a language whose reading is kept: a thousand routes with six examples are 6,000."""


@dataclass(frozen=True, eq=False)
class ExampleText:
    """A text as it is compared.

    Attributes:
        tokens: as it is spoken.
        line: the same as one string.
        meant: what its words stand for, in their order.
        distinct: the same, each once.
    """

    tokens: tuple[str, ...]
    line: str
    meant: tuple[str, ...]
    distinct: tuple[str, ...]

    @property
    def pairs(self) -> set[tuple[str, str]]:
        """Neighbours of `meant`."""
        return set(pairwise(self.meant))


class ExampleReader:
    """Reads texts of one language; what was read is kept by its text."""

    def __init__(self, language: Language) -> None:
        self.language = language
        self._marker = KindMarker(language)
        self.spoken = lru_cache(maxsize=KEPT)(self._spoken)
        self.of_tokens = lru_cache(maxsize=KEPT)(self._of_tokens)

    def _spoken(self, text: str) -> tuple[str, ...]:
        return tuple(self.language.writing.spoken_tokens(text))

    def marked(self, tokens: Sequence[str]) -> list[str]:
        """Tokens with dates, times, amounts and numbers as what they are."""
        return self._marker.marked(tokens)

    def _of_tokens(self, tokens: tuple[str, ...]) -> ExampleText:
        meant = tuple(self.language.wording.concepts(self.marked(tokens)))
        return ExampleText(tokens, " ".join(tokens), meant, tuple(dict.fromkeys(meant)))

    def read(self, text: str) -> ExampleText:
        """A text as it is compared."""
        found: ExampleText = self.of_tokens(self.spoken(text))
        return found


_readers: dict[str, ExampleReader] = {}


def reader_of(language: Language) -> ExampleReader:
    """The reader of a language: one a process."""
    known = _readers.get(language.code)
    if known is None or known.language is not language:
        known = _readers[language.code] = ExampleReader(language)
    return known
