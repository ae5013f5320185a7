"""Words that are spelt alike and said in two ways, told apart by their neighbours (English)."""

from __future__ import annotations

from collections.abc import Sequence

from fond_echo.core.language.phonemes import Pronunciation

_VERBAL = frozenset(
    "to will would can could should shall must may might please don't doesn't didn't not never i we"
    " you they who i'll we'll you'll let's let cannot can't won't always often".split()
)
"""What stands before a verb."""

_NOMINAL = frozenset(
    "a an the my your his her its our their this that these those no any some each every of for"
    " per new first last next best old".split()
)
_HAVING = frozenset(
    "have has had having was were been be being is are already just i've we've you've they've"
    " he she it's".split()
)
_OBJECT = frozenset("the a an your my our his her it them all this that".split())

_STRESS = {
    "record": ("R EH1 K ER0 D", "R IH0 K AO1 R D"),
    "records": ("R EH1 K ER0 D Z", "R IH0 K AO1 R D Z"),
    "present": ("P R EH1 Z AH0 N T", "P R IY0 Z EH1 N T"),
    "object": ("AA1 B JH EH0 K T", "AH0 B JH EH1 K T"),
    "permit": ("P ER1 M IH2 T", "P ER0 M IH1 T"),
    "project": ("P R AA1 JH EH0 K T", "P R AH0 JH EH1 K T"),
    "produce": ("P R OW1 D UW0 S", "P R AH0 D UW1 S"),
    "refuse": ("R EH1 F Y UW2 Z", "R IH0 F Y UW1 Z"),
    "contract": ("K AA1 N T R AE2 K T", "K AH0 N T R AE1 K T"),
    "conduct": ("K AA1 N D AH0 K T", "K AH0 N D AH1 K T"),
    "insert": ("IH1 N S ER2 T", "IH2 N S ER1 T"),
    "import": ("IH1 M P AO2 R T", "IH2 M P AO1 R T"),
    "export": ("EH1 K S P AO0 R T", "IH0 K S P AO1 R T"),
    "increase": ("IH1 N K R IY2 S", "IH2 N K R IY1 S"),
    "transport": ("T R AE1 N S P AO0 R T", "T R AE2 N S P AO1 R T"),
    "suspect": ("S AH1 S P EH2 K T", "S AH0 S P EH1 K T"),
    "reject": ("R IY1 JH EH0 K T", "R IH0 JH EH1 K T"),
    "use": ("Y UW1 S", "Y UW1 Z"),
    "excuse": ("IH0 K S K Y UW1 S", "IH0 K S K Y UW1 Z"),
    "house": ("HH AW1 S", "HH AW1 Z"),
    "estimate": ("EH1 S T AH0 M AH0 T", "EH1 S T AH0 M EY2 T"),
    "separate": ("S EH1 P R AH0 T", "S EH1 P ER0 EY2 T"),
    "duplicate": ("D UW1 P L AH0 K AH0 T", "D UW1 P L AH0 K EY2 T"),
}
"""As a noun or an adjective, and as a verb."""

_AFTER = {
    "live": (
        "L IH1 V",
        "L AY1 V",
        "music show shows broadcast stream update updates bait".split(),
    ),
    "wind": ("W IH1 N D", "W AY1 N D", "up down back".split()),
    "wound": ("W UW1 N D", "W AW1 N D", "up down around round back".split()),
    "lead": ("L IY1 D", "L EH1 D", "pipe pipes weight weights keel acid paint line".split()),
    "bow": ("B AW1", "B OW1", "tie ties and".split()),
    "tear": ("T IH1 R", "T EH1 R", "up down off it this the along".split()),
    "row": ("R OW1", "R AW1", "broke with".split()),
}
"""Usually, and before some words."""


def homograph(tokens: Sequence[str], place: int) -> Pronunciation | None:
    """How a word is said where it stands; None where it is said in but one way.

    Args:
        tokens: the words of the phrase.
        place: of the word among them.
    """
    found = _said(tokens[place], tokens[place - 1] if place else "", tokens[place + 1 : place + 2])
    return tuple(found.split()) if found else None


def _said(word: str, before: str, following: Sequence[str]) -> str:
    after = following[0] if following else ""
    if word in _STRESS:
        noun, verb = _STRESS[word]
        orders = not before and after in _OBJECT
        return verb if orders or (before in _VERBAL and before not in _NOMINAL) else noun
    if word == "close":
        near = after in ("to", "by") or before in ("is", "are", "very", "so", "too", "quite", "a")
        return "K L OW1 S" if near and before not in ("to", "we", "they", "will") else "K L OW1 Z"
    if word == "read":
        return "R EH1 D" if before in _HAVING else "R IY1 D"
    if word == "lives":
        people = before in ("our", "their", "your", "many", "the", "of", "save", "saves", "two")
        return "L AY1 V Z" if people else "L IH1 V Z"
    if word == "content":
        return (
            "K AH0 N T EH1 N T"
            if before in ("am", "is", "are", "was", "i'm")
            else "K AA1 N T EH0 N T"
        )
    if word == "live" and before in ("a", "the", "goes", "go", "went", "is", "are"):
        return "L AY1 V"
    if word == "wind" and before in ("to", "will"):
        return "W AY1 N D"
    if word in _AFTER:
        usual, other, beside = _AFTER[word]
        named = before in ("the", "a") and word not in ("lead", "live", "bow")
        return other if after in beside and not named else usual
    return ""
