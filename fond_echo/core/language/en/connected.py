"""How words are said in running speech: what a recognizer may hear in place of their full form.

Small words have weak forms, sounds are left out in clusters, a T between vowels is tapped
(Cruttenden, Gimson's Pronunciation of English, chapters 10 to 12). Which of these are worth
listening for was counted on people's recordings (training/people/variants).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from fond_echo.core.language.phonemes import VOWELS, Pronunciation, base, stress

WEAK: dict[str, tuple[str, ...]] = {
    "a": ("AH0",), "an": ("AH0 N",), "and": ("AH0 N", "AE0 N"), "are": ("ER0",),
    "as": ("AH0 Z",), "at": ("AH0 T",), "because": ("K AH0 Z",), "can": ("K AH0 N",),
    "could": ("K AH0 D",), "do": ("D AH0",), "for": ("F ER0",), "from": ("F R AH0 M",),
    "had": ("AH0 D",), "has": ("AH0 Z",), "have": ("AH0 V", "HH AH0 V"), "he": ("IY0",),
    "her": ("ER0",), "him": ("IH0 M",), "his": ("IH0 Z",), "i": ("AA0",), "i'll": ("AH0 L",),
    "i'm": ("AH0 M",), "it": ("AH0 T",), "just": ("JH AH0 S", "JH IH0 S T"),
    "of": ("AH0", "AH0 V"), "or": ("ER0",), "our": ("AA0 R",), "shall": ("SH AH0 L",),
    "should": ("SH AH0 D",), "some": ("S AH0 M",), "than": ("DH AH0 N",), "that": ("DH AH0 T",),
    "that's": ("DH AH0 S",), "the": ("DH AH0", "DH IY0"), "them": ("AH0 M", "DH AH0 M"),
    "there": ("DH ER0",), "to": ("T AH0", "T IH0"), "was": ("W AH0 Z",), "were": ("W ER0",),
    "what": ("W AH0 T",), "will": ("AH0 L",), "would": ("W AH0 D",), "you": ("Y AH0", "Y UH0"),
    "you're": ("Y ER0",), "your": ("Y ER0",),
    "going": ("G AH0 N",), "got": ("G AA0",), "want": ("W AA0 N",), "don't": ("D OW0 N",),
    "let": ("L EH0",), "deliver_as": ("G IH0",), "ask": ("AE0 S",), "with": ("W IH0 DH",),
}  # fmt: skip
"""Forms that small words have where no stress is on them: "going to" is often G AH N, T AH."""

HELD = frozenset(["S", "F", "K", "P", "N", "L", "CH", "SH"])
"""After these a last T or D may be left out: old, just, kept."""


def connected(word: str, ways: Sequence[Pronunciation]) -> tuple[Pronunciation, ...]:
    """Further ways to say a word, the likeliest first; none that is given already.

    Args:
        ways: how it is said by itself.

    >>> connected("to", [("T", "UW1")])
    (('T', 'AH0'), ('T', 'IH0'))
    >>> connected("water", [("W", "AO1", "T", "ER0")])
    (('W', 'AO1', 'D', 'ER0'),)
    """
    known = {tuple(map(base, way)) for way in ways}
    found: list[Pronunciation] = []
    weak = [tuple(each.split()) for each in WEAK.get(word, ())]
    for further in (*weak, *(by_rule for way in ways for by_rule in _by_rule(way))):
        if tuple(map(base, further)) not in known:
            known.add(tuple(map(base, further)))
            found.append(further)
    return tuple(found)


def _by_rule(way: Pronunciation) -> Iterator[Pronunciation]:
    if len(way) > 4 and way[-2:] == ("IH0", "NG"):
        yield (*way[:-1], "N")
    if len(way) > 3 and way[-1] in ("T", "D") and way[-2] in HELD:
        yield way[:-1]
    tapped = tuple("D" if _taps(way, place) else sound for place, sound in enumerate(way))
    if tapped != way:
        yield tapped


def _taps(way: Pronunciation, place: int) -> bool:
    """Whether the T at a place stands between a vowel and one without stress."""
    if way[place] != "T" or not 0 < place < len(way) - 1:
        return False
    before, after = way[place - 1], way[place + 1]
    return (base(before) in VOWELS or before == "R") and stress(after) == "0"
