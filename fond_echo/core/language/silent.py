"""Letters that a language has no sounds for."""

from __future__ import annotations

import unicodedata

from fond_echo.core.language.language import Language

MAX_REPORTED = 20


def silent_letters(text: str, language: Language) -> str:
    """The letters of a text that nothing is said for, each once, in order; twenty at most."""
    found = dict.fromkeys(
        character
        for character in dict.fromkeys(text)
        if unicodedata.category(character).startswith("L") and not language.letters.knows(character)
    )
    return "".join(list(found)[:MAX_REPORTED])
