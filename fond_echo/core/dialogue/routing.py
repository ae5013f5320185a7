"""Which route a turn takes, and why."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal

from fond_echo.core.dialogue.evidence import FREE_THRESHOLD, Evidence
from fond_echo.core.dialogue.examples import reader_of
from fond_echo.core.dialogue.matching import ExampleMatcher, Match
from fond_echo.core.dialogue.outcomes import (
    ASKED,
    DID_YOU_MEAN,
    FALLBACK,
    HEARD_THRESHOLD,
    THRESHOLD,
)
from fond_echo.core.dialogue.phrases import PLACE, Phrase, said_in
from fond_echo.core.grammar.match import Parse, Value, match
from fond_echo.core.grammar.model import Grammar
from fond_echo.core.language.ends import without_ends
from fond_echo.core.language.language import Language
from fond_echo.core.language.registry import language as language_of

BASE, BY_SCORE, BY_LEAD, BY_UNKNOWN, BY_LENGTH = -3.42, 6.43, 4.09, -2.58, 3.27
LEAD, LENGTH = 0.35, 8
"""How a score becomes a confidence: a logistic curve over the score, its lead over the next route
(at most LEAD), the share of what was said that no example knows, and the number of words (up to
LENGTH), since in longer sentences more is said around what is meant. Fitted on the wordings of
bench/data/development.txt, as written and misheard."""

MARGIN = 0.015
"""Routes that are nearer to each other than this are asked about."""

EXACT = 0.97
"""From this score on it is the example, word for word."""

BESIDE = 0.5
"""A route is asked about beside the best where its score is at least this share of that one's."""

MAX_TEXT, MAX_SAID = 4_000, 250
"""Characters and words of a text that are understood: what is longer is no question."""

HIGHER = 0.8
"""What another route needs while a slot is being asked for."""


IfUnsure = Literal["ask", "fallback"]
"""What is done where a route is likely, but not sure."""


@dataclass(frozen=True)
class Route:
    """A route as the router sees it.

    Attributes:
        name: unique in the assistant.
        examples: things said that mean it.
        command: what is typed behind the line's command mark, or None.
        key: what is pressed on a telephone, or "".
        rule: of the grammar, or "".
        title: what it is called when it is asked about; the first example where empty.
        phrases: examples with a place for free words.
        min_confidence: how likely it must be to be taken by its examples; None is as usual.
        if_unsure: what a likely, but not sure match does: ask, or leave it to the default answer;
            None is as everywhere in the assistant.
    """

    name: str
    examples: tuple[str, ...] = ()
    command: str | None = None
    key: str = ""
    rule: str = ""
    title: str = ""
    phrases: tuple[Phrase, ...] = ()
    min_confidence: float | None = None
    if_unsure: IfUnsure | None = None


@dataclass(frozen=True)
class Score:
    """How well one route fits, from 0 to 1, how likely it is the right one, and why."""

    route: str
    score: float
    because: str
    confidence: float = 0.0


@dataclass(frozen=True)
class Decision:
    """The route taken.

    Attributes:
        route: its name; `FALLBACK` where none fits, `DID_YOU_MEAN` where the assistant asks.
        by: command, key, choice, rule, example or otherwise.
        sure: false where the words may have been heard wrong and nothing fits them: then the
            assistant says that it is unsure instead of giving its default answer.
        scores: the best routes with their scores, best first.
        values: what a grammar rule's parts matched.
        requested: the routes that are asked about.
        needed: how likely the best route had to be to be taken by its examples.
        rest: what stood behind the command.
    """

    route: str
    by: str
    sure: bool
    because: str
    scores: tuple[Score, ...] = ()
    values: tuple[Value, ...] = field(default=())
    requested: tuple[str, ...] = ()
    rest: str = ""
    needed: float = 0.0

    @property
    def confidence(self) -> float:
        return self.scores[0].confidence if self.scores and self.by == "example" else 1.0


def first_example(route: Route) -> str:
    """An example as it is shown: with dots where free words stand."""
    shown = [*route.examples, *(PLACE.sub("…", each.example) for each in route.phrases)]
    return shown[0] if shown else ""


class Router:
    """Decides between routes, in the order in which they are tried: command, key, choice, grammar
    rule, examples.

    Args:
        grammar: whose rules lead to routes.
        language: of the routes; English if not given.
        free: the default answer answers questions of any kind: then what no route surely takes goes
            to it, and likelihoods say how likely none of the routes is meant (`Evidence`).
        min_confidence: how likely a route must be to be taken by its examples; None is as usual.
        if_unsure: what a likely, but not sure match does; None asks, but leaves it to a free
            answer.
    """

    def __init__(
        self,
        routes: Sequence[Route],
        grammar: Grammar | None = None,
        language: Language | None = None,
        *,
        free: bool = False,
        min_confidence: float | None = None,
        if_unsure: IfUnsure | None = None,
    ) -> None:
        self.routes = tuple(routes)
        self.language = language or language_of()
        self.grammar = grammar or self.language.types.builtin_grammar()
        example = reader_of(self.language).spoken
        spoken = {
            route.name: [(text, example(text)) for text in route.examples] for route in routes
        }
        for route in routes:
            spoken[route.name] += [(p.example, example(p.fixed)) for p in route.phrases]
        self.matcher = ExampleMatcher(spoken, self.language)
        self.free, self._min_confidence = free, min_confidence
        self._if_unsure: IfUnsure = if_unsure or ("fallback" if free else "ask")
        self.evidence = Evidence(self.matcher, self.language) if free else None
        self._by_name = {route.name: route for route in routes}

    def said(self, text: str) -> list[str]:
        """The words of a text that somebody said, as far as they are understood."""
        return self.language.writing.spoken_tokens(text[:MAX_TEXT])[:MAX_SAID]

    @property
    def examples(self) -> tuple[str, ...]:
        """Every example, in the order of the routes: what can be understood here."""
        return tuple(text for route in self.routes for text in route.examples)

    @property
    def fixed_words(self) -> tuple[str, ...]:
        """The words beside the places of examples with free words: they may well be said."""
        return tuple(phrase.fixed for route in self.routes for phrase in route.phrases)

    @property
    def rules(self) -> tuple[str, ...]:
        """The grammar's rules that lead to a route."""
        return tuple(route.rule for route in self.routes if route.rule)

    def suggestions(self, most: int = 3) -> list[str]:
        """The first example of each of the first routes: what to say one can be asked."""
        return [found for route in self.routes if (found := first_example(route))][:most]

    def title(self, name: str) -> str:
        """What a route is called when it is asked about."""
        route = next(each for each in self.routes if each.name == name)
        first = first_example(route) or name.replace("-", " ")
        return route.title or first.rstrip(".?!")

    def decide(
        self,
        text: str,
        *,
        command: bool = False,
        choice: str = "",
        key: str = "",
        heard_surely: bool = True,
        above: float | None = None,
    ) -> Decision:
        """The route for a text.

        Args:
            text: as typed or heard.
            command: the text stood behind the line's command mark, which is already taken off.
            choice: the value of a choice that was picked.
            key: what was pressed.
            heard_surely: false where the text is a transcript that may be wrong.
            above: the confidence that an example needs, where that is another than usual; then
                nothing is asked about.

        Raises:
            GrammarError: the grammar takes too long.
        """
        if command and (found := self._by_command(text)) is not None:
            return found
        for route in self.routes:
            if key and route.key == key:
                return Decision(route.name, "key", True, f"the key {key}")
            if choice and choice == route.name:
                return Decision(route.name, "choice", True, f"the choice {choice!r}")
        tokens = self.said(text)
        by_rule = self._by_rule(tokens)
        if by_rule is not None:
            return by_rule
        if (by_phrase := self._by_phrase(text)) is not None:
            return by_phrase
        return self._by_example(tokens, heard_surely, above)

    def _by_command(self, text: str) -> Decision | None:
        """A command, with what stands behind it."""
        word = text.strip()
        for route in sorted(self.routes, key=lambda each: -len(each.command or "")):
            name = (route.command or "").lower()
            if name and (word.lower() == name or word.lower().startswith(f"{name} ")):
                rest = word[len(name) :].strip()
                return Decision(route.name, "command", True, f"the command {name!r}", rest=rest)
        return None

    def _by_phrase(self, text: str) -> Decision | None:
        """An example with free words in it."""
        phrases = {phrase: route.name for route in self.routes for phrase in route.phrases}
        try:
            phrase, words = said_in(list(phrases), text, self.language.wording.AROUND)
        except LookupError:
            return None
        value = Value(phrase.slot, tuple(self.said(words)), words)
        because = f"said like {phrase.example!r}"
        return Decision(phrases[phrase], "rule", True, because, values=(value,))

    def _by_rule(self, tokens: Sequence[str]) -> Decision | None:
        if not tokens:
            return None
        bare = without_ends(tokens, self.language.wording.AROUND)
        best: tuple[float, Route, Parse] | None = None
        for route in self.routes:
            if not route.rule:
                continue
            parse = match(self.grammar, route.rule, tokens)
            if parse is None and bare != tokens:
                parse = match(self.grammar, route.rule, bare)
            # What mostly fits garbage is not what the rule is about.
            if parse is None or parse.garbage > len(tokens) / 2:
                continue
            if best is None or parse.weight > best[0]:
                best = parse.weight, route, parse
        if best is None:
            return None
        _, route, parse = best
        named = ", ".join(f"{each.kind} {' '.join(each.tokens)!r}" for each in parse.values)
        because = f"said by the rule ${route.rule}" + (f" ({named})" if named else "")
        return Decision(route.name, "rule", True, because, values=parse.values)

    def _by_example(
        self, tokens: Sequence[str], heard_surely: bool, above: float | None
    ) -> Decision:
        scores = self.scores(tokens, heard=not heard_surely)
        if not scores or scores[0].score == 0.0:
            return Decision(FALLBACK, "fallback", heard_surely, "no example is near", scores)
        best = scores[0]
        needed = self.needed(best.route, heard_surely=heard_surely)
        if best.confidence >= (needed if above is None else max(above, needed)):
            return Decision(best.route, "example", True, best.because, scores, needed=needed)
        near = [each for each in scores[:3] if each.score >= BESIDE * best.score]
        requested = tuple(
            each.route for each in near
            if each.confidence >= ASKED and self._asks(each.route)
        )  # fmt: skip
        named = f"the best, {best.route}, is {best.confidence:.0%} likely"
        if requested and above is None:
            return Decision(
                DID_YOU_MEAN, "example", False, named, scores, requested=requested, needed=needed
            )
        because = f"no example is near enough; {named}"
        return Decision(FALLBACK, "fallback", heard_surely, because, scores, needed=needed)

    def needed(self, route: str, *, heard_surely: bool = True) -> float:
        """How likely a route must be to be taken by its examples."""
        own = self._by_name[route].min_confidence
        if own is not None or self._min_confidence is not None:
            return own if own is not None else self._min_confidence or 0.0
        if self.free:
            return FREE_THRESHOLD
        return THRESHOLD if heard_surely else HEARD_THRESHOLD

    def _asks(self, route: str) -> bool:
        """Whether it is asked about where it is likely, but not sure."""
        return (self._by_name[route].if_unsure or self._if_unsure) == "ask"

    def likeliest(self, text: str, most: int = 10) -> list[str]:
        """The routes that a text may most likely mean, the likeliest first; then others, in their
        order, where fewer share a word with it."""
        found = [each.route for each in self.scores(self.said(text))]
        others = [each.name for each in self.routes if each.name not in found]
        return [*found, *others][:most]

    def scores(self, tokens: Sequence[str], *, heard: bool = False) -> tuple[Score, ...]:
        """The routes whose examples share something with what was said, at most `SHOWN`, the best
        first."""
        ordered, unknown = self.matcher.compared(tokens, heard=heard)
        worth = [match.score for match in ordered]
        if self.evidence is not None:
            likely = self.evidence.likelihoods(tokens, ordered, unknown, heard=heard)
            scores = [
                Score(
                    found.route, found.score, _because(found),
                    1.0 if found.score >= EXACT else round(share, 3),
                )
                for found, share in zip(ordered, likely, strict=True)
            ]  # fmt: skip
            return tuple(sorted(scores, key=lambda each: -each.confidence))
        return tuple(
            Score(
                found.route,
                found.score,
                _because(found),
                _confidence(place, worth, unknown, len(tokens)),
            )
            for place, found in enumerate(ordered)
        )


def _confidence(place: int, scores: Sequence[float], unknown: float, words: int) -> float:
    """How likely the route at a place of the ordered scores is the right one."""
    score = scores[place]
    if not score:
        return 0.0
    if score >= EXACT:
        return 1.0
    others = scores[0] if place else scores[1] if len(scores) > 1 else 0.0
    lead = max(-LEAD, min(LEAD, score - others))
    length = min(words, LENGTH) / LENGTH
    evidence = BASE + BY_SCORE * score + BY_LEAD * lead + BY_UNKNOWN * unknown + BY_LENGTH * length
    likely = 1.0 / (1.0 + math.exp(-evidence))
    if abs(lead) < MARGIN and others and score < EXACT:
        likely = min(likely, HEARD_THRESHOLD - 0.01)
    return round(likely, 3)


def _because(found: Match) -> str:
    shared = f" ({', '.join(found.shared)})" if found.shared else ""
    return f"like {found.example!r}{shared}"
