"""With which words an expansion may begin: what cannot begin at a place need not be tried there."""

from __future__ import annotations

import math

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

Opening = frozenset[str] | None
"""Words, one of which must come first; None where nothing need be said, or anything may be."""

MAX_KEPT = 20_000
_NO_WORDS: frozenset[str] = frozenset()


def opening_of(expansion: Expansion, grammar: Grammar) -> Opening:
    """The words with which an expansion of a grammar may begin; found once."""
    if isinstance(expansion, Reference):
        # Whoever looks for a rule makes one for the moment.
        other, rule = grammar.find(expansion)
        return opening_of(rule.body, other)
    known = grammar.openings.get(id(expansion))
    if known is None:
        # What leads to itself before any word is refused by the check; until then it may be any.
        grammar.openings[id(expansion)] = expansion, None
        known = grammar.openings[id(expansion)] = expansion, _found(expansion, grammar)
    return known[1]


def _found(expansion: Expansion, grammar: Grammar) -> Opening:
    match expansion:
        case Words(words):
            return frozenset(words[:1]) if words else None
        case Never():
            return _NO_WORDS
        case Tag() | Garbage():
            return None
        case Chain(items):
            return _of_chain(items, grammar)
        case OneOf(items, weights):
            found: set[str] = set()
            for item, weight in zip(items, weights, strict=True):
                one = opening_of(item, grammar) if weight > 0 else _NO_WORDS
                if one is None:
                    return None
                found |= one
            return frozenset(found)
        case Repeat(item, least):
            return opening_of(item, grammar) if least else None
        case Reference():
            return opening_of(expansion, grammar)


def _of_chain(items: tuple[Expansion, ...], grammar: Grammar) -> Opening:
    for item in items:
        if not isinstance(item, Tag):
            return opening_of(item, grammar)
    return None


def alternatives(
    choice: OneOf, grammar: Grammar, token: str | None
) -> tuple[tuple[Expansion, float], ...]:
    """Those of a choice that may begin with a word (None: at the end), in their order, each with
    the logarithm of its weight beside the greatest."""
    known = grammar.alternatives
    key = id(choice), token
    kept = known.get(key)
    if kept is None:
        if len(known) >= MAX_KEPT:
            known.clear()
        most = max(choice.weights) or 1.0
        found = tuple(
            (item, math.log(weight / most))
            for item, weight in zip(choice.items, choice.weights, strict=True)
            if weight > 0 and _may_begin(opening_of(item, grammar), token)
        )
        kept = known[key] = choice, found
    return kept[1]


def _may_begin(opening: Opening, token: str | None) -> bool:
    return opening is None or token in opening
