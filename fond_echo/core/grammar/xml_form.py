"""Reading grammars in the XML form (SRGS 1.0), without DTD or entities."""

from __future__ import annotations

from collections.abc import Mapping

from fond_echo.core.grammar.abnf import DEEPEST, MAX_BYTES, Spoken
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
from fond_echo.core.xml_tree import Element, read_tree


def _expansion(element: Element, spoken: Spoken) -> Expansion:
    items: list[Expansion] = []
    for each in element.inside:
        if isinstance(each, str):
            tokens = spoken(each)
            if tokens:
                items.append(Words(tuple(tokens)))
            continue
        items.append(_of(each, spoken))
    return items[0] if len(items) == 1 else Chain(tuple(items))


def _of(element: Element, spoken: Spoken) -> Expansion:
    match element.name:
        case "item":
            return _item(element, spoken)
        case "one-of":
            children = [each for each in element.inside if isinstance(each, Element)]
            if not children or any(each.name != "item" for each in children):
                raise element.error("one-of holds item elements, at least one")
            weights = tuple(_weight(each) for each in children)
            return OneOf(tuple(_item(each, spoken) for each in children), weights)
        case "ruleref":
            return _reference(element)
        case "token":
            text = "".join(each for each in element.inside if isinstance(each, str))
            return Words(tuple(spoken(text)))
        case "tag":
            return Tag("".join(each for each in element.inside if isinstance(each, str)).strip())
        case "example":
            return NOTHING
    raise element.error(f"{element.name!r} cannot stand here")


def _weight(element: Element) -> float:
    try:
        return float(element.attributes.get("weight", "1"))
    except ValueError:
        raise element.error("weight must be a number") from None


def _item(element: Element, spoken: Spoken) -> Expansion:
    inner = _expansion(element, spoken)
    given = element.attributes.get("repeat")
    if given is None:
        return inner
    try:
        return Repeat(inner, *times(given))
    except ValueError as error:
        raise element.error(f"repeat {error}") from None


def _reference(element: Element) -> Expansion:
    special = element.attributes.get("special")
    if special is not None:
        known: dict[str, Expansion] = {"NULL": NOTHING, "VOID": Never(), "GARBAGE": Garbage()}
        if special not in known:
            raise element.error(f"special {special!r} is not one of NULL, VOID, GARBAGE")
        return known[special]
    uri = element.attributes.get("uri", "")
    if not uri:
        raise element.error("ruleref needs uri or special")
    file, _, rule = uri.partition("#")
    return Reference(rule, file, element.line, element.column)


def read_xml(
    text: str, others: Mapping[str, Grammar] | None = None, *, spoken: Spoken | None = None
) -> Grammar:
    """Read a grammar.

    Args:
        text: in the XML form.
        others: the grammars that it may refer to, by file name.
        spoken: the language's way with words; English if not given.

    Raises:
        GrammarError: with the line and column of the first thing that is wrong.
    """
    if len(text) > MAX_BYTES:
        raise GrammarError(f"a grammar of {len(text):,} characters is over {MAX_BYTES:,}")
    tree = read_tree(text, GrammarError, deepest=DEEPEST)
    spoken = spoken or language_of().writing.spoken_tokens
    if tree.name != "grammar":
        raise tree.error(f"the document is a {tree.name!r}, not a grammar")
    rules: dict[str, Rule] = {}
    for each in tree.inside:
        if isinstance(each, str) or each.name != "rule":
            continue
        name = each.attributes.get("id", "")
        if not name or name in rules:
            raise each.error("a rule needs an id of its own")
        public = each.attributes.get("scope") == "public"
        rules[name] = Rule(name, _expansion(each, spoken), public, each.line, each.column)
    if not rules:
        raise tree.error("there is no rule")
    root = tree.attributes.get("root", "") or next(iter(rules))
    if root not in rules:
        raise tree.error(f"the root {root!r} is no rule of this grammar")
    language = tree.attributes.get("xml:lang", "en").split("-")[0].lower()
    return Grammar(rules, root, language, dict(others or {}))
