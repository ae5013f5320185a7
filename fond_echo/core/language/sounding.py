"""How alike words sound: the distance between their phonemes, by kinds of sounds."""

from __future__ import annotations

from functools import lru_cache

from fond_echo.core.language.language import Letters
from fond_echo.core.language.phonemes import base

_KINDS = (
    ("P", "B"), ("T", "D"), ("K", "G"), ("F", "V"), ("TH", "DH", "F"), ("S", "Z"),
    ("SH", "ZH", "CH", "JH"), ("M", "N", "NG"), ("L", "R", "W"), ("IY", "IH", "Y"),
    ("EH", "AE", "IH"), ("AA", "AO", "AH", "OW"), ("UH", "UW", "AH"), ("AH", "IH", "EH", "ER"),
    ("EY", "EH"), ("AY", "AA"), ("AW", "AA"), ("OY", "AO"),
)  # fmt: skip
_NEAR = {(a, b) for kind in _KINDS for a in kind for b in kind}
_VOWELS = frozenset("AA AE AH AO AW AY EH ER EY IH IY OW OY UH UW".split())

SOUNDS = tuple(sorted({*_VOWELS, *(sound for kind in _KINDS for sound in kind), "HH"}))
"""All phonemes, without stress."""

NEAR_COST = 0.35
VOWEL_COST = 0.6


@lru_cache(maxsize=50_000)
def sounds(word: str, letters: Letters) -> tuple[str, ...]:
    """The phonemes of a word by letter-to-sound rules, without stress."""
    return tuple(base(symbol) for symbol in letters.pronounce_by_letters(word))


def step_cost(left: str, right: str) -> float:
    """What it costs that one sound stands in the place of another: 0 to 1."""
    if left == right:
        return 0.0
    if (left, right) in _NEAR:
        return NEAR_COST
    if left in _VOWELS and right in _VOWELS:
        return VOWEL_COST
    return 1.0


def sound_distance(left: tuple[str, ...], right: tuple[str, ...]) -> float:
    """Edit distance between phonemes (Levenshtein 1966), near sounds at a part of the price."""
    before = [float(k) for k in range(len(right) + 1)]
    for row, a in enumerate(left, 1):
        now = [float(row)]
        for column, b in enumerate(right, 1):
            step = before[column - 1] + step_cost(a, b)
            now.append(min(before[column] + 1.0, now[-1] + 1.0, step))
        before = now
    return before[-1]


@lru_cache(maxsize=200_000)
def sound_likeness(left: str, right: str, letters: Letters) -> float:
    """How alike two words, or two phrases, sound by a language's letters: 0 to 1."""
    if left == right:
        return 1.0
    a = tuple(sound for word in left.split() for sound in sounds(word, letters))
    b = tuple(sound for word in right.split() for sound in sounds(word, letters))
    longest = max(len(a), len(b))
    if not longest or abs(len(a) - len(b)) > 0.6 * longest:
        return 0.0
    return 1.0 - sound_distance(a, b) / longest
