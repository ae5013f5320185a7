"""Matching text against a grammar: the best way to say the tokens by a rule.

A chart of results by (expansion, place) is filled on demand, so that every expansion is tried
once at every place; left recursion was refused before, so this ends. What is kept of each end is
its best way: the weight of the alternatives taken, the literal of the rule, and the values of the
rules inside it.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from fond_echo.core.grammar.errors import GrammarError
from fond_echo.core.grammar.model import (
    Chain,
    Expansion,
    Garbage,
    Grammar,
    Never,
    OneOf,
    Reference,
    Repeat,
    Tag,
    Words,
)
from fond_echo.core.grammar.openings import alternatives, opening_of

MAX_STEPS = 400_000
GARBAGE_PRICE = math.log(0.3)
"""What a word that only fits garbage costs."""


@dataclass(frozen=True)
class Value:
    """What a rule matched: its literal where a tag gave one, its tokens, and what its parts
    were. `kind` is the rule's name, or the built-in type's."""

    kind: str
    tokens: tuple[str, ...]
    literal: str | None = None
    builtin: bool = False


@dataclass(frozen=True)
class Parse:
    """A way to say something by a rule.

    Attributes:
        weight: natural logarithm; 0 is the likeliest way.
        literal: of the last tag outside any rule inside.
        values: of the rules inside, in the order in which they were said.
        garbage: how many tokens only fitted garbage.
    """

    weight: float
    literal: str | None
    values: tuple[Value, ...]
    garbage: int = 0


Ends = dict[int, Parse]
_NOTHING = Parse(0.0, None, ())


class _Chart:
    def __init__(self, tokens: Sequence[str]) -> None:
        self._tokens = tuple(tokens)
        self._known: dict[tuple[int, int, int], Ends] = {}
        self._steps = 0

    def ends(self, expansion: Expansion, grammar: Grammar, at: int) -> Ends:
        """Where an expansion that begins at a place may end, and the best way to each."""
        key = id(expansion), id(grammar), at
        known = self._known.get(key)
        if known is None:
            self._count(1)
            opening = opening_of(expansion, grammar)
            possible = opening is None or self._token(at) in opening
            known = self._known[key] = self._find(expansion, grammar, at) if possible else {}
        return known

    def _token(self, at: int) -> str | None:
        return self._tokens[at] if at < len(self._tokens) else None

    def _count(self, steps: int) -> None:
        self._steps += steps
        if self._steps > MAX_STEPS:
            raise GrammarError("the grammar takes too long to match", remedy="make it simpler")

    def _find(self, expansion: Expansion, grammar: Grammar, at: int) -> Ends:
        match expansion:
            case Words(words):
                end = at + len(words)
                return {end: _NOTHING} if self._tokens[at:end] == words else {}
            case Tag(text):
                return {at: Parse(0.0, text, ())}
            case Never():
                return {}
            case Garbage():
                left = len(self._tokens) - at
                return {at + k: Parse(k * GARBAGE_PRICE, None, (), k) for k in range(left + 1)}
            case Chain(items):
                ends: Ends = {at: _NOTHING}
                for item in items:
                    ends = self._then(ends, item, grammar)
                return ends
            case OneOf():
                return self._one_of(expansion, grammar, at)
            case Repeat():
                return self._repeated(expansion, grammar, at)
            case Reference():
                return self._referred(expansion, grammar, at)

    def _then(self, ends: Ends, item: Expansion, grammar: Grammar) -> Ends:
        found: Ends = {}
        for middle, before in ends.items():
            following = self.ends(item, grammar, middle)
            self._count(len(following))
            for end, after in following.items():
                _keep(found, end, _joined(before, after))
        return found

    def _one_of(self, choice: OneOf, grammar: Grammar, at: int) -> Ends:
        found: Ends = {}
        for item, price in alternatives(choice, grammar, self._token(at)):
            for end, parse in self.ends(item, grammar, at).items():
                way = Parse(parse.weight + price, parse.literal, parse.values, parse.garbage)
                _keep(found, end, way)
        return found

    def _repeated(self, repeat: Repeat, grammar: Grammar, at: int) -> Ends:
        found: Ends = {}
        ends: Ends = {at: _NOTHING}
        times = 0
        most = repeat.most if repeat.most is not None else len(self._tokens) - at + 1
        while ends:
            if times >= repeat.least:
                for end, parse in ends.items():
                    _keep(found, end, parse)
            if times >= most:
                break
            following = self._then(ends, repeat.item, grammar)
            # Nothing said once more brings no way that is not there already.
            ends = {k: v for k, v in following.items() if k not in ends or times < repeat.least}
            times += 1
        return found

    def _referred(self, reference: Reference, grammar: Grammar, at: int) -> Ends:
        other, rule = grammar.find(reference)
        found: Ends = {}
        for end, parse in self.ends(rule.body, other, at).items():
            value = Value(reference.name, self._tokens[at:end], parse.literal, reference.builtin)
            # A rule has its own value; what is inside a built-in type is its own concern.
            inside = () if reference.builtin else parse.values
            _keep(found, end, Parse(parse.weight, None, (value, *inside), parse.garbage))
        return found


def _keep(ends: Ends, end: int, parse: Parse) -> None:
    known = ends.get(end)
    if known is None or (parse.weight, -parse.garbage) > (known.weight, -known.garbage):
        ends[end] = parse


def _joined(before: Parse, after: Parse) -> Parse:
    return Parse(
        before.weight + after.weight,
        after.literal if after.literal is not None else before.literal,
        before.values + after.values,
        before.garbage + after.garbage,
    )


def match(grammar: Grammar, rule: str, tokens: Sequence[str]) -> Parse | None:
    """The best way to say all of the tokens by a rule, or None.

    Raises:
        GrammarError: there is no such rule, or it takes too long.
    """
    owner, found = grammar.find(Reference(rule))
    return _Chart(tokens).ends(found.body, owner, 0).get(len(tokens))


def spot(
    grammar: Grammar,
    reference: Reference,
    tokens: Sequence[str],
    starts: Callable[[str], bool] | None = None,
) -> list[tuple[int, int, Value]]:
    """Where in the tokens a rule is said: (start, end, value), the longest at every place,
    overlapping ones left out from the left. `starts` says at which words it is looked for."""
    chart = _Chart(tokens)
    found: list[tuple[int, int, Value]] = []
    at = 0
    while at < len(tokens):
        if starts is not None and not starts(tokens[at]):
            at += 1
            continue
        ends = {end: p for end, p in chart.ends(reference, grammar, at).items() if end > at}
        if not ends:
            at += 1
            continue
        end = max(ends)
        found.append((at, end, ends[end].values[0]))
        at = end
    return found
