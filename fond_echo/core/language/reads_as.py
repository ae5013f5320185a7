"""Whether a text is in the language that it should be in, told by its common words."""

from __future__ import annotations

import re
from functools import lru_cache

OTHERS = ("de", "en", "es", "fr", "it", "nl", "pl", "pt", "ru", "sv")
MIN_WORDS = 6
"""Shorter texts say too little: names and greetings are alike everywhere."""

COMMON = 5e-5
"""Share of all words that a common one makes up at least."""

ENOUGH = 0.5
"""Where so many of its words are common in a language, a text is in it."""

CLEARLY = 0.3
"""Another language must have so many more of its words."""


def other_language(text: str, language: str) -> str:
    """The code of the language that a text is in, where that is clearly another one; "" where it is
    in its own, or where that cannot be told: too short, or of a language without a word list.

    >>> other_language("Die Fähre nach Pell fährt um vier Uhr und kostet nichts.", "en")
    'de'
    >>> other_language("The boat to Pell leaves at four and costs nothing.", "en")
    ''
    """
    words = re.findall(r"[^\W\d_]+", text.lower())
    own = _list(language)
    if len(words) < MIN_WORDS or not own:
        return ""
    share = _share(words, own)
    if share >= ENOUGH:
        return ""
    best, code = max((_share(words, _list(each)), each) for each in OTHERS if each != language)
    return code if best - share >= CLEARLY else ""


def _share(words: list[str], common: frozenset[str]) -> float:
    return sum(word in common for word in words) / len(words)


@lru_cache(maxsize=16)
def _list(language: str) -> frozenset[str]:
    """The common words of a language (word list of wordfreq, Speer 2022); none where there is no
    list."""
    from wordfreq import get_frequency_dict  # with its own long start

    try:
        found = get_frequency_dict(language, wordlist="small")
    except LookupError:
        return frozenset()
    return frozenset(word for word, share in found.items() if share >= COMMON)
