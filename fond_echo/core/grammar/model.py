"""What a grammar is made of, whichever form it was written in (SRGS 1.0 §2)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from fond_echo.core.grammar.errors import GrammarError


@dataclass(frozen=True)
class Words:
    """Spoken tokens, one after another."""

    tokens: tuple[str, ...]


@dataclass(frozen=True)
class Chain:
    """Expansions, one after another."""

    items: tuple[Expansion, ...]


@dataclass(frozen=True)
class OneOf:
    """One of several expansions; a weight says how likely each is beside the others."""

    items: tuple[Expansion, ...]
    weights: tuple[float, ...]


@dataclass(frozen=True)
class Repeat:
    """An expansion from `least` to `most` times; `most` None is without end. `likely` is how
    probable one more time is."""

    item: Expansion
    least: int
    most: int | None
    likely: float = 0.5


@dataclass(frozen=True)
class Reference:
    """Another rule: of this grammar, of a file beside it, or built in ("builtin:date")."""

    rule: str
    file: str = ""
    line: int = 0
    column: int = 0

    @property
    def name(self) -> str:
        """What its value is called: the rule, or the built-in's kind."""
        return self.file.removeprefix("builtin:") if self.builtin else self.rule

    @property
    def builtin(self) -> bool:
        return self.file.startswith("builtin:")


@dataclass(frozen=True)
class Garbage:
    """Any words, or none."""


@dataclass(frozen=True)
class Never:
    """What can never be said ($VOID)."""


@dataclass(frozen=True)
class Tag:
    """A literal that becomes the value of its rule."""

    text: str


Expansion = Words | Chain | OneOf | Repeat | Reference | Garbage | Never | Tag
NOTHING = Chain(())
"""$NULL: said by saying nothing."""


@dataclass(frozen=True)
class Rule:
    """A rule and where it stands."""

    name: str
    body: Expansion
    public: bool = False
    line: int = 0
    column: int = 0


@dataclass(frozen=True)
class Grammar:
    """A grammar: its rules by name, and the root."""

    rules: Mapping[str, Rule]
    root: str = ""
    language: str = "en"
    others: Mapping[str, Grammar] = field(default_factory=dict)
    """The grammars of other files that it refers to, by name; the built-in one as "builtin:"."""

    openings: dict[int, tuple[Expansion, frozenset[str] | None]] = field(
        default_factory=dict, init=False, compare=False, repr=False
    )
    alternatives: dict[
        tuple[int, str | None], tuple[Expansion, tuple[tuple[Expansion, float], ...]]
    ] = field(default_factory=dict, init=False, compare=False, repr=False)
    """What `fond_echo.core.grammar.openings` found, by the identity of an expansion, which is kept
    with it: of one that is gone, another would have the identity."""

    def __getstate__(self) -> dict[str, object]:
        # In another process the same expansions have other identities.
        return {**self.__dict__, "openings": {}, "alternatives": {}}

    def find(self, reference: Reference) -> tuple[Grammar, Rule]:
        """The rule behind a reference, and the grammar it stands in.

        Raises:
            GrammarError: the grammar has no such rule.
        """
        grammar = self
        name = reference.rule
        if reference.builtin:
            grammar, name = self.others["builtin:"], reference.name
        elif reference.file:
            if reference.file not in self.others:
                raise GrammarError(f"there is no grammar {reference.file}", line=reference.line)
            grammar = self.others[reference.file]
            name = name or grammar.root
        if name not in grammar.rules:
            kind = "built-in type" if reference.builtin else "rule"
            known = ", ".join(sorted(n for n, r in grammar.rules.items() if r.public)[:12])
            raise GrammarError(
                f"there is no {kind} {name!r}",
                line=reference.line,
                column=reference.column,
                remedy=f"known: {known}" if known else "",
            )
        return grammar, grammar.rules[name]


MAX_TIMES = 200


def times(text: str) -> tuple[int, int | None]:
    """How often something is repeated: N, N-M, or N- without end.

    Raises:
        ValueError: with what is wrong.
    """
    least, dash, most = text.strip().partition("-")
    try:
        first = int(least)
        last = first if not dash else int(most) if most.strip() else None
    except ValueError:
        raise ValueError(f"{text!r} is not N, N-M or N-") from None
    if last is not None and (last < first or last == 0):
        raise ValueError(f"{text!r} repeats from more to fewer, or never")
    if max(first, last or 0) > MAX_TIMES:
        raise ValueError(f"{text!r} repeats over {MAX_TIMES} times")
    return first, last


def parts(expansion: Expansion) -> Iterator[Expansion]:
    """An expansion and everything in it."""
    yield expansion
    match expansion:
        case Chain(items) | OneOf(items, _):
            for item in items:
                yield from parts(item)
        case Repeat(item):
            yield from parts(item)
