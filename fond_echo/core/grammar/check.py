"""What cannot be matched in bounded time, found before anything is matched: rules that begin with
themselves, repeats of what may be nothing, references that lead nowhere."""

from __future__ import annotations

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
    Rule,
    Tag,
    Words,
    parts,
)

Key = tuple[int, str]
"""A rule of a grammar, which may be one of several files."""


class _Checker:
    def __init__(self, grammar: Grammar) -> None:
        self._start = grammar
        self._empty: dict[Key, bool] = {}
        self._rules: dict[Key, tuple[Grammar, Rule]] = {}

    def check(self) -> None:
        self._collect()
        self._find_empty()
        for grammar, rule in self._rules.values():
            for part in parts(rule.body):
                if (
                    isinstance(part, Repeat)
                    and part.most is None
                    and self._may_be_empty(part.item, grammar)
                ):
                    raise GrammarError(
                        f"${rule.name} repeats without end what may be nothing",
                        line=rule.line,
                        column=rule.column,
                        remedy="let what is repeated be at least a word",
                    )
        self._refuse_left_recursion()

    def _collect(self) -> None:
        waiting = [(self._start, rule) for rule in self._start.rules.values()]
        while waiting:
            grammar, rule = waiting.pop()
            key = (id(grammar), rule.name)
            if key in self._rules:
                continue
            self._rules[key] = grammar, rule
            for part in parts(rule.body):
                if isinstance(part, Reference):
                    waiting.append(grammar.find(part))

    def _find_empty(self) -> None:
        """Which rules may be said by saying nothing: grown until nothing changes."""
        self._empty = dict.fromkeys(self._rules, False)
        changed = True
        while changed:
            changed = False
            for key, (grammar, rule) in self._rules.items():
                if not self._empty[key] and self._may_be_empty(rule.body, grammar):
                    self._empty[key] = changed = True

    def _may_be_empty(self, expansion: Expansion, grammar: Grammar) -> bool:
        match expansion:
            case Words(tokens):
                return not tokens
            case Chain(items):
                return all(self._may_be_empty(item, grammar) for item in items)
            case OneOf(items, _):
                return any(self._may_be_empty(item, grammar) for item in items)
            case Repeat(item, least):
                return least == 0 or self._may_be_empty(item, grammar)
            case Reference():
                other, rule = grammar.find(expansion)
                return self._empty[id(other), rule.name]
            case Garbage() | Tag():
                return True
            case Never():
                return False

    def _begins_with(self, expansion: Expansion, grammar: Grammar) -> set[Key]:
        match expansion:
            case Chain(items):
                found: set[Key] = set()
                for item in items:
                    found |= self._begins_with(item, grammar)
                    if not self._may_be_empty(item, grammar):
                        break
                return found
            case OneOf(items, _):
                return {key for item in items for key in self._begins_with(item, grammar)}
            case Repeat(item):
                return self._begins_with(item, grammar)
            case Reference():
                other, rule = grammar.find(expansion)
                return {(id(other), rule.name)}
        return set()

    def _refuse_left_recursion(self) -> None:
        edges = {
            key: self._begins_with(rule.body, grammar)
            for key, (grammar, rule) in self._rules.items()
        }
        done: set[Key] = set()
        for first, begun in edges.items():
            if first in done:
                continue
            trail: dict[Key, list[Key]] = {first: list(begun)}
            while trail:
                key = next(reversed(trail))
                if not trail[key]:
                    del trail[key]
                    done.add(key)
                    continue
                following = trail[key].pop()
                if following in trail:
                    rule = self._rules[following][1]
                    raise GrammarError(
                        f"${rule.name} begins with itself",
                        line=rule.line,
                        column=rule.column,
                        remedy="begin with a word, or use a repeat: $item<1->",
                    )
                if following not in done:
                    trail[following] = list(edges[following])


def check_grammar(grammar: Grammar) -> None:
    """Refuse a grammar that cannot be matched in bounded time.

    Raises:
        GrammarError: with the rule's place.
    """
    _Checker(grammar).check()
