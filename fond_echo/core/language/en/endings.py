"""Words with an ending: how 's, s, ed and ing are said (English)."""

from __future__ import annotations

from collections.abc import Callable

from fond_echo.core.language.phonemes import SIBILANTS, VOICELESS, Pronunciation, base


def with_ending(
    word: str, listed: Callable[[str], tuple[Pronunciation, ...]]
) -> tuple[Pronunciation, ...]:
    """How a word is said that is a listed one with an ending; none where it is not."""
    for ending, add in (("'s", plural), ("s", plural), ("ed", past), ("ing", present)):
        stem = word.removesuffix(ending)
        if stem == word or len(stem) < 3:
            continue
        doubled = stem[:-1] if len(stem) > 3 and stem[-1] == stem[-2] else ""
        for candidate in (stem, stem + "e", doubled):
            found = listed(candidate)
            if found and not (ending in ("'s", "s") and candidate != stem):
                return tuple(add(sounds) for sounds in found)
    return ()


def plural(sounds: Pronunciation) -> Pronunciation:
    """With -s or -'s: /ɪz/ after sibilants, /s/ after voiceless, else /z/."""
    last = base(sounds[-1])
    if last in SIBILANTS:
        return (*sounds, "IH0", "Z")
    return (*sounds, "S" if last in VOICELESS else "Z")


def past(sounds: Pronunciation) -> Pronunciation:
    """With -ed: /ɪd/ after t and d, /t/ after voiceless, else /d/."""
    last = base(sounds[-1])
    if last in ("T", "D"):
        return (*sounds, "IH0", "D")
    return (*sounds, "T" if last in VOICELESS else "D")


def present(sounds: Pronunciation) -> Pronunciation:
    """With -ing."""
    return (*sounds, "IH0", "NG")
