"""The phoneme inventory: 39 phonemes of English, and stress marks on vowels.

A pronunciation is a tuple of symbols in ARPABET; a vowel carries 0, 1 or 2 for no, primary or
secondary stress, as in the CMU Pronouncing Dictionary: ("B", "OW1", "T").
"""

from __future__ import annotations

VOWELS = ("AA", "AE", "AH", "AO", "AW", "AY", "EH", "ER", "EY", "IH", "IY", "OW", "OY", "UH", "UW")
CONSONANTS = tuple("B CH D DH F G HH JH K L M N NG P R S SH T TH V W Y Z ZH".split())
PHONEMES = VOWELS + CONSONANTS

VOICELESS = frozenset(["P", "T", "K", "F", "TH", "S", "SH", "CH", "HH"])
SIBILANTS = frozenset(["S", "Z", "SH", "ZH", "CH", "JH"])

Pronunciation = tuple[str, ...]


def base(symbol: str) -> str:
    """The phoneme without its stress mark."""
    return symbol.rstrip("012")


def stress(symbol: str) -> str:
    """The stress mark of a vowel, "" for a consonant."""
    return symbol[-1] if symbol[-1].isdigit() else ""
