"""A translator over a phrase book of mooring, cargo and weather, in a language that is made up."""

from __future__ import annotations

import re

TONGUES = ("tsl",)
"""Tern Sound Low, which nobody speaks elsewhere."""

PHRASES = {
    "make fast": "haldo fest", "cast off": "lossa", "good morning": "godmorn",
    "thank you": "takken", "how much": "hurmik", "the wind": "vinna", "the boat": "skuta",
    "the harbour": "havna", "the rope": "reppa", "the cargo": "lasta", "the fish": "fiska",
    "is rising": "aukar", "is falling": "minkar", "tonight": "ikveld", "tomorrow": "imorna",
    "where": "kvar", "when": "nar", "is": "ar", "boat": "skuta", "rope": "reppa",
    "wind": "vinna", "cargo": "lasta", "harbour": "havna", "yes": "ja", "no": "nei", "and": "ok",
}  # fmt: skip

_LONGEST_FIRST = re.compile(
    r"\b(" + "|".join(sorted(map(re.escape, PHRASES), key=len, reverse=True)) + r")\b",
    re.IGNORECASE,
)


def put(words: str, into: str) -> str | None:
    """A text in another language, word by word where the book has no phrase for it; what it does
    not know stays as it is. None for a language that it does not know."""
    if into not in TONGUES:
        return None

    def other(match: re.Match[str]) -> str:
        found = PHRASES[match[0].lower()]
        return found.capitalize() if match[0][:1].isupper() else found

    return _LONGEST_FIRST.sub(other, words)
