"""What kind of thing words are: a date, a time, an amount, a number."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from itertools import groupby

from fond_echo.core.grammar.match import spot
from fond_echo.core.grammar.model import Garbage, Grammar, Reference, Words, parts
from fond_echo.core.language.language import Language

KEPT = 50_000

SHORT = 6
MAX_RUN = 40
"""A date or a time is not said in more words than this: longer runs of numbers are no more."""


class KindMarker:
    """Puts what they are in place of dates, times, amounts and numbers: "‹time›"."""

    def __init__(self, language: Language) -> None:
        self._numbers, self._types = language.numbers, language.types
        self._starts = lru_cache(maxsize=20_000)(self._may_start)
        self._kept = lru_cache(maxsize=KEPT)(self._find)
        self._said = _words_of(self._types.builtin_grammar())

    def _may_start(self, token: str) -> bool:
        """Whether a date, a time or an amount may begin with a word, or be at its second."""
        numbers = self._numbers
        return (
            token in self._types.OPENING
            or numbers.is_number_word(token)
            or numbers.ordinal_value([token]) is not None
        )

    def marked(self, tokens: Sequence[str]) -> list[str]:
        """Tokens with what they are."""
        if not any(map(self._starts, tokens)):
            return list(tokens)
        # What is short comes again; a number that somebody said is not kept.
        return [
            word
            for run in self._runs(tokens)
            for word in (self._kept(run) if len(run) <= SHORT else self._find(run))
        ]

    def _runs(self, tokens: Sequence[str]) -> Iterator[tuple[str, ...]]:
        """Tokens cut where nothing of a built-in type goes on: the same few runs, such as "ten
        past four", come again and again."""
        if self._said is None:
            yield tuple(tokens)
            return
        for _, run in groupby(tokens, self._said.__contains__):
            yield tuple(run)

    def _find(self, tokens: tuple[str, ...]) -> tuple[str, ...]:
        found = list(tokens)
        grammar = self._types.builtin_grammar()
        for kind in self._types.SPOTTED if len(tokens) <= MAX_RUN else ():
            reference = Reference("", f"builtin:{kind}")
            for start, end, _ in reversed(spot(grammar, reference, found, self._starts)):
                if end - start > 1 or found[start] in self._types.OPENING:
                    found[start:end] = [f"‹{kind}›"]
        return tuple(
            "‹number›" if self._numbers.is_number_word(token) else token for token in found
        )


def _words_of(grammar: Grammar) -> frozenset[str] | None:
    """Every word of a grammar; None where it lets any word in."""
    found: set[str] = set()
    for rule in grammar.rules.values():
        for part in parts(rule.body):
            if isinstance(part, Garbage) or (isinstance(part, Reference) and not part.builtin
                                             and part.file):  # fmt: skip
                return None
            if isinstance(part, Words):
                found.update(part.tokens)
    return frozenset(found)
