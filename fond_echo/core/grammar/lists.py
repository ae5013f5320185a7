"""The names that a rule lists, where it is a list."""

from __future__ import annotations

from collections.abc import Iterator

from fond_echo.core.grammar.model import Chain, Expansion, OneOf, Tag, Words


def names_in(expansion: Expansion) -> Iterator[tuple[str, str]]:
    """What is said for each, and what it is worth: its literal, or the words themselves. Parts
    that are no plain names are left out."""
    if isinstance(expansion, OneOf):
        for item in expansion.items:
            yield from names_in(item)
    elif isinstance(expansion, Words):
        said = " ".join(expansion.tokens)
        yield said, said
    elif isinstance(expansion, Chain):
        words = [item for item in expansion.items if isinstance(item, Words)]
        tags = [item.text for item in expansion.items if isinstance(item, Tag)]
        if words and len(words) + len(tags) == len(expansion.items):
            said = " ".join(token for item in words for token in item.tokens)
            yield said, tags[-1] if tags else said
