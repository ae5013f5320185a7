"""Reading grammars in the ABNF form (SRGS 1.0 §§2–4)."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Callable, Mapping

from fond_echo.core.grammar.errors import GrammarError
from fond_echo.core.grammar.model import (
    NOTHING,
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
    times,
)
from fond_echo.core.language.registry import language as language_of

MAX_BYTES = 2_000_000
MAX_RULES = 20_000
DEEPEST = 60

_TOKEN = re.compile(
    r"""
      (?P<space>\s+|//[^\n]*|/\*.*?\*/)
    | (?P<tag>\{!\{.*?\}!\}|\{[^{}]*\})
    | (?P<weight>/\s*[0-9.]+\s*/)
    | (?P<times><\s*\d+\s*(?:-\s*\d*\s*)?(?:/\s*[0-9.]+\s*/)?\s*>)
    | (?P<reference>\$<[^>\s]+>|\$[A-Za-z_][\w.:-]*)
    | (?P<uri><[^>\s]*>)
    | (?P<quoted>"[^"\n]*"|'[^'\n]*')
    | (?P<language>![A-Za-z]{2,3}(?:-[A-Za-z0-9]+)*)
    | (?P<sign>[=|;()\[\]])
    | (?P<word>[^\s=|;()\[\]{}<>$"/!]+)
    """,
    re.X | re.S,
)
_HEAD = re.compile(r"\s*(?:\ufeff)?#ABNF\s+1\.0(?:\s+[\w-]+)?\s*;")


Spoken = Callable[[str], list[str]]
"""Words of a grammar's file as spoken tokens."""


class _Reader:
    """A recursive-descent reader over the tokens of one file."""

    def __init__(self, text: str, spoken: Spoken) -> None:
        self._text, self._of_words = text, spoken
        self._lines = [0, *(found.end() for found in re.finditer("\n", text))]
        self._tokens: list[tuple[str, str, int]] = []
        self._at = 0

    def error(self, what: str, remedy: str = "", *, place: int | None = None) -> GrammarError:
        if place is None:
            place = self._tokens[self._at][2] if self._at < len(self._tokens) else len(self._text)
        line = bisect_right(self._lines, place)
        column = place - self._lines[line - 1] + 1
        return GrammarError(what, line=line, column=column, remedy=remedy)

    def _spoken(self, text: str) -> tuple[str, ...]:
        if text.isascii() and text.isalpha() and text.islower():
            return (text,)
        return tuple(self._of_words(text))

    def read(self) -> Grammar:
        head = _HEAD.match(self._text)
        if not head:
            raise self.error("a grammar begins with #ABNF 1.0;", place=0)
        place = head.end()
        while place < len(self._text):
            found = _TOKEN.match(self._text, place)
            if not found:
                wrong = self._text[place : place + 12].split("\n")[0]
                raise self.error(f"{wrong!r} cannot stand here", place=place)
            if found.lastgroup != "space":
                self._tokens.append((str(found.lastgroup), found.group(), place))
            place = found.end()
        return self._grammar()

    def _grammar(self) -> Grammar:
        rules: dict[str, Rule] = {}
        root, language = "", "en"
        while self._at < len(self._tokens):
            kind, text, _ = self._tokens[self._at]
            following = self._tokens[self._at + 1][1] if self._at + 1 < len(self._tokens) else ""
            if kind == "word" and text in ("public", "private"):
                self._at += 1
                self._rule(rules, text == "public")
            elif kind == "reference" and following == "=":
                self._rule(rules, False)
            elif kind == "word" and text == "root":
                root = self._declared().lstrip("$")
            elif kind == "word" and text == "language":
                language = self._declared().split("-")[0].lower()
            elif kind == "word" and text in (
                "mode",
                "tag-format",
                "base",
                "lexicon",
                "meta",
                "http-equiv",
            ):
                self._declared()
            else:
                raise self.error(f"{text!r} begins neither a rule nor a declaration", "$name = …;")
            if len(rules) > MAX_RULES:
                raise self.error(f"over {MAX_RULES:,} rules are too many")
        if not rules:
            raise self.error("there is no rule", "$name = what may be said;")
        if root and root not in rules:
            raise self.error(f"the root ${root} is no rule of this grammar", place=0)
        return Grammar(rules, root or next(iter(rules)), language)

    def _declared(self) -> str:
        """The first value of a declaration, read to its semicolon."""
        self._at += 1
        value = self._peek()[1]
        while self._peek()[1] != ";":
            if self._peek()[0] == "end":
                raise self.error("a declaration ends with ;")
            self._at += 1
        self._at += 1
        return value

    def _peek(self) -> tuple[str, str]:
        if self._at >= len(self._tokens):
            return "end", ""
        kind, text, _ = self._tokens[self._at]
        return kind, text

    def _rule(self, rules: dict[str, Rule], public: bool) -> None:
        kind, text = self._peek()
        if kind != "reference" or text.startswith("$<"):
            raise self.error("a rule has a name", "$name = …;")
        place = self.error("")
        name = text[1:]
        if name in rules:
            raise self.error(f"the rule ${name} is there already", f"line {rules[name].line}")
        self._at += 1
        if self._peek()[1] != "=":
            raise self.error(f"= is missing after ${name}")
        self._at += 1
        body = self._alternatives(0)
        if self._peek()[1] != ";":
            raise self.error("a rule ends with ;", f"close ${name}")
        self._at += 1
        rules[name] = Rule(name, body, public, place.line, place.column)

    def _alternatives(self, depth: int) -> Expansion:
        if depth > DEEPEST:
            raise self.error(f"brackets are nested over {DEEPEST} deep")
        items: list[Expansion] = []
        weights: list[float] = []
        while True:
            weight = 1.0
            if self._peek()[0] == "weight":
                weight = self._number(self._peek()[1].strip("/ "))
                self._at += 1
            items.append(self._chain(depth))
            weights.append(weight)
            if self._peek()[1] != "|":
                break
            self._at += 1
        return items[0] if len(items) == 1 else OneOf(tuple(items), tuple(weights))

    def _number(self, text: str) -> float:
        try:
            return float(text)
        except ValueError:
            raise self.error(f"{text!r} is not a number") from None

    def _chain(self, depth: int) -> Expansion:
        items: list[Expansion] = []
        while True:
            item = self._item(depth)
            if item is None:
                break
            while self._peek()[0] in ("times", "language"):
                if self._peek()[0] == "times":
                    item = self._times(item, self._peek()[1])
                self._at += 1
            items.append(item)
        if not items:
            raise self.error("something to say is missing here", "$NULL says nothing")
        return items[0] if len(items) == 1 else Chain(tuple(items))

    def _item(self, depth: int) -> Expansion | None:
        kind, text = self._peek()
        if kind in ("word", "quoted"):
            self._at += 1
            return Words(self._spoken(text.strip("\"'") if kind == "quoted" else text))
        if kind == "tag":
            self._at += 1
            inner = text[3:-3] if text.startswith("{!{") else text[1:-1]
            return Tag(inner.strip())
        if kind == "reference":
            found = self._reference(text)
            self._at += 1
            return found
        if text in ("(", "["):
            self._at += 1
            closing = ")" if text == "(" else "]"
            if self._peek()[1] == closing:
                self._at += 1
                return NOTHING
            inside = self._alternatives(depth + 1)
            if self._peek()[1] != closing:
                raise self.error(f"{closing} is missing")
            self._at += 1
            return inside if text == "(" else Repeat(inside, 0, 1)
        return None

    def _reference(self, text: str) -> Expansion:
        if text == "$NULL":
            return NOTHING
        if text == "$VOID":
            return Never()
        if text == "$GARBAGE":
            return Garbage()
        place = self.error("")
        if not text.startswith("$<"):
            return Reference(text[1:], "", place.line, place.column)
        file, _, rule = text[2:-1].partition("#")
        return Reference(rule, file, place.line, place.column)

    def _times(self, item: Expansion, text: str) -> Repeat:
        inner = text.strip("<> ")
        likely = 0.5
        if "/" in inner:
            inner, _, probability = inner.partition("/")
            likely = min(0.99, max(0.01, self._number(probability.strip("/ "))))
        try:
            return Repeat(item, *times(inner), likely)
        except ValueError as error:
            raise self.error(str(error)) from None


def read_abnf(
    text: str, others: Mapping[str, Grammar] | None = None, *, spoken: Spoken | None = None
) -> Grammar:
    """Read a grammar.

    Args:
        text: in the ABNF form.
        others: the grammars that it may refer to, by file name.
        spoken: the language's way with words; English if not given.

    Raises:
        GrammarError: with the line and column of the first thing that is wrong.
    """
    if len(text) > MAX_BYTES:
        raise GrammarError(f"a grammar of {len(text):,} characters is over {MAX_BYTES:,}")
    grammar = _Reader(text, spoken or language_of().writing.spoken_tokens).read()
    return Grammar(grammar.rules, grammar.root, grammar.language, dict(others or {}))
