"""A grammar as the recognizer's network of words."""

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
    Tag,
    Words,
)
from fond_echo.core.recognition.graph import FILLER, WordNetwork

MAX_NODES = 60_000
DEEPEST = 5
"""How often a rule is followed into itself; deeper than that it cannot be heard."""

MAX_REPEATS = 20


class _Builder:
    """An automaton with empty arcs, grown expansion by expansion (Thompson's construction)."""

    def __init__(self) -> None:
        self.nodes = 0
        self.arcs: list[tuple[int, int, str]] = []
        self.empty: dict[int, list[int]] = {}

    def node(self) -> int:
        self.nodes += 1
        if self.nodes > MAX_NODES:
            raise GrammarError(
                f"as a network the grammar has over {MAX_NODES:,} places",
                remedy="let rules that are long lists be asked for one at a time",
            )
        return self.nodes - 1

    def join(self, start: int, end: int) -> None:
        self.empty.setdefault(start, []).append(end)

    def add(
        self, expansion: Expansion, grammar: Grammar, start: int, trail: tuple[str, ...]
    ) -> int | None:
        """Lay an expansion from a node; the node where it ends, or None where it cannot."""
        match expansion:
            case Words(words):
                at = start
                for word in words:
                    following = self.node()
                    self.arcs.append((at, following, word))
                    at = following
                return at
            case Tag():
                return start
            case Never():
                return None
            case Garbage():
                end = self.node()
                self.arcs.append((start, end, FILLER))
                self.join(start, end)
                return end
            case Chain(items):
                place: int | None = start
                for item in items:
                    if place is None:
                        return None
                    place = self.add(item, grammar, place, trail)
                return place
            case OneOf(items, _):
                return self._gathered([self.add(item, grammar, start, trail) for item in items])
            case Repeat():
                return self._repeated(expansion, grammar, start, trail)
            case Reference():
                other, rule = grammar.find(expansion)
                if trail.count(rule.name) >= DEEPEST:
                    return None
                return self.add(rule.body, other, start, (*trail, rule.name))

    def _gathered(self, ends: list[int | None]) -> int | None:
        reached = [end for end in ends if end is not None]
        if not reached:
            return None
        together = self.node()
        for end in reached:
            self.join(end, together)
        return together

    def _repeated(
        self, repeat: Repeat, grammar: Grammar, start: int, trail: tuple[str, ...]
    ) -> int | None:
        # What is repeated begins at a node of its own: going round must not open the way to
        # other arcs that leave the place where it began.
        place: int | None = self.node()
        assert place is not None
        self.join(start, place)
        for _ in range(repeat.least):
            place = self.add(repeat.item, grammar, place, trail)
            if place is None:
                return None
        ends: list[int | None] = [place]
        if repeat.most is None:
            again = self.node()
            self.join(place, again)
            end = self.add(repeat.item, grammar, again, trail)
            if end is not None:
                self.join(end, again)
                ends.append(end)
        else:
            for _ in range(min(MAX_REPEATS, repeat.most - repeat.least)):
                end = self.add(repeat.item, grammar, place, trail)
                if end is None:
                    break
                ends.append(end)
                place = end
        return self._gathered(ends)


def network_of(
    grammar: Grammar, references: list[Reference], phrases: list[tuple[str, ...]] | None = None
) -> WordNetwork:
    """A network of what may be said by any of some rules, or as one of some phrases, with
    anything around it.

    Raises:
        GrammarError: it would be too large.
    """
    builder = _Builder()
    start, first = builder.node(), builder.node()
    builder.arcs.append((start, first, FILLER))
    builder.join(start, first)
    ends = [builder.add(reference, grammar, first, ()) for reference in references]
    known: dict[tuple[int, str], int] = {}
    for phrase in phrases or []:
        at = first
        for word in phrase:
            if (at, word) not in known:
                known[at, word] = builder.node()
                builder.arcs.append((at, known[at, word], word))
            at = known[at, word]
        if at != first:
            ends.append(at)
    reached = [end for end in ends if end is not None]
    last = builder.node()
    finals = set(reached)
    for end in reached:
        builder.arcs.append((end, last, FILLER))
    finals.add(last)
    return _without_empty(builder, start, finals)


def _without_empty(builder: _Builder, start: int, finals: set[int]) -> WordNetwork:
    """The same automaton with a word on every arc, and only what can be reached."""
    leaving: dict[int, list[tuple[int, str]]] = {}
    for begin, end, word in builder.arcs:
        leaving.setdefault(begin, []).append((end, word))
    closures: dict[int, set[int]] = {}

    def closure(node: int) -> set[int]:
        if node not in closures:
            found, waiting = {node}, [node]
            while waiting:
                for following in builder.empty.get(waiting.pop(), []):
                    if following not in found:
                        found.add(following)
                        waiting.append(following)
            closures[node] = found
        return closures[node]

    numbers = {start: 0}
    waiting = [start]
    arcs: list[tuple[int, int, str]] = []
    ending: set[int] = set()
    while waiting:
        node = waiting.pop()
        reach = closure(node)
        if reach & finals:
            ending.add(numbers[node])
        seen: set[tuple[int, str]] = set()
        for place in reach:
            for end, word in leaving.get(place, []):
                if (end, word) in seen:
                    continue
                seen.add((end, word))
                if end not in numbers:
                    numbers[end] = len(numbers)
                    waiting.append(end)
                arcs.append((numbers[node], numbers[end], word))
    ending.discard(0)
    return WordNetwork(tuple(arcs), frozenset(ending))
