"""What stands at the ends of a sentence and says nothing."""

from __future__ import annotations

from collections.abc import Collection, Sequence


def without_ends(tokens: Sequence[str], around: Collection[str]) -> list[str]:
    """Tokens without those that may stand before and after.

    >>> without_ends(["please", "go", "home", "please"], {"please"})
    ['go', 'home']
    """
    start, end = 0, len(tokens)
    while start < end and tokens[start] in around:
        start += 1
    while end > start and tokens[end - 1] in around:
        end -= 1
    return list(tokens[start:end])
