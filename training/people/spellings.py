"""Spanish spelling to sounds, for lines whose text is read to train on.

Spanish is written nearly as it is said; what is not, such as stress, makes no difference here. A
language has an output layer of its own, so that its sounds are those of no other.

Source: the Real Academia Española's Ortografía (2010).
"""

from __future__ import annotations

import re
import unicodedata

SOUNDS: dict[str, tuple[str, ...]] = {
    "es": tuple("a e i o u b d g p t k f s th ch x m n ny l y r rr w".split()),
}
"""What each output layer gives probabilities of, after the blank."""

_SPANISH = [
    (r"hue", "w e"), (r"hie", "y e"), (r"ch", "ch"), (r"ll", "y"), (r"rr", "rr"), (r"\br", "rr"),
    (r"(?<=[nls])r", "rr"), (r"qu(?=[ei])", "k"), (r"gu(?=[ei])", "g"), (r"gü", "g w"),
    (r"gu(?=[ao])", "g w"), (r"c(?=[ei])", "th"), (r"g(?=[ei])", "x"), (r"h", ""), (r"z", "th"),
    (r"j", "x"), (r"ñ", "ny"), (r"[vb]", "b"), (r"[cqk]", "k"), (r"x", "k s"), (r"y\b", "i"),
    (r"y", "y"), (r"ü", "u"),
]  # fmt: skip
_RULES = {
    "es": [(re.compile(pattern), sounds) for pattern, sounds in _SPANISH],
}


class NotSpelledOut(ValueError):
    """A text that spelling alone does not say, such as one with figures."""


def words_of(text: str) -> list[str]:
    """The words of a line, in lower case, with ñ and ü and no other marks.

    Raises:
        NotSpelledOut: there is a figure, or no word.
    """
    if re.search(r"\d", text):
        raise NotSpelledOut(text)
    kept = []
    for letter in text.lower():
        plain = letter if letter in "ñü" else unicodedata.normalize("NFD", letter)[0]
        kept.append(plain if plain.isalpha() else " ")
    words = "".join(kept).split()
    if not words:
        raise NotSpelledOut(text)
    return words


def sounds_of(text: str, language: str) -> list[str]:
    """The sounds of a line in order.

    >>> sounds_of("¿Qué? ¡Un guerrero!", "es")
    ['k', 'e', 'u', 'n', 'g', 'e', 'rr', 'e', 'r', 'o']

    Raises:
        NotSpelledOut: spelling does not say how, as of figures.
    """
    known = SOUNDS[language]
    found: list[str] = []
    for word in words_of(text):
        place = 0
        while place < len(word):
            for pattern, sounds in _RULES[language]:
                match = pattern.match(word, place)
                if match and match.end() > place:
                    found += match.expand(sounds).split()
                    place = match.end()
                    break
            else:
                found.append(word[place])
                place += 1
    # A consonant and its like at the edge of words are one.
    once = [each for k, each in enumerate(found) if k == 0 or each != found[k - 1]]
    strange = [each for each in once if each not in known]
    if strange:
        raise NotSpelledOut(f"{text}: {strange}")
    return once
