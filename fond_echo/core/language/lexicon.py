"""How words are said: a lexicon, endings, compounds, and letters where nothing else helps."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from fond_echo.core.language.letters import NAMES, pronounce_by_letters
from fond_echo.core.language.phonemes import SIBILANTS, VOICELESS, Pronunciation, base


class Lexicon:
    """Pronunciations of words, the first of each being the usual one.

    Args:
        entries: word (lower case) to its pronunciations.
        more: entries that go before those, such as an assistant's own names.
    """

    def __init__(
        self,
        entries: Mapping[str, Sequence[Pronunciation]],
        more: Mapping[str, Sequence[Pronunciation]] | None = None,
    ) -> None:
        self._entries = entries
        self._more = dict(more or {})

    def __contains__(self, word: str) -> bool:
        return word in self._more or word in self._entries

    def extended(self, more: Mapping[str, Sequence[Pronunciation]]) -> Lexicon:
        """This lexicon with entries that go before its own."""
        return Lexicon(self._entries, {**self._more, **more})

    def with_sounds(self, sounds: Iterable[tuple[str, str]]) -> Lexicon:
        """This lexicon with words that are said in ways written apart by spaces, or as the words
        after "="."""
        more: dict[str, list[Pronunciation]] = {}
        for word, way in sounds:
            said = tuple(way.split())
            if way.startswith("="):
                said = tuple(
                    each for part in self.phonemes(way[1:].lower().split()) for each in part
                )
            more.setdefault(word, []).append(said)
        return self.extended(more) if more else self

    def listed(self, word: str) -> tuple[Pronunciation, ...]:
        """The pronunciations written down for a word; none where it is not listed."""
        return tuple(self._more.get(word, ())) + tuple(self._entries.get(word, ()))

    def pronunciations(self, word: str) -> tuple[Pronunciation, ...]:
        """All ways to say a word, at least one for any word with a letter in it.

        A word that is not listed is tried as a listed one with an ending ('s, s, ed, ing), as
        two listed ones in a row, as a single letter, and last by letter-to-sound rules.
        """
        word = word.lower()
        return self.built(word) or (pronounce_by_letters(word),)

    def built(self, word: str) -> tuple[Pronunciation, ...]:
        """As `pronunciations`, but none where only letter-to-sound rules would help."""
        listed = self.listed(word)
        if listed:
            return listed
        if len(word) == 1 and word in NAMES:
            return (NAMES[word],)
        return self._with_ending(word) or self._compound(word)

    def phonemes(self, words: Iterable[str]) -> list[Pronunciation]:
        """The usual pronunciation of each word."""
        return [self.pronunciations(word)[0] for word in words]

    def _with_ending(self, word: str) -> tuple[Pronunciation, ...]:
        for ending, add in (("'s", plural), ("s", plural), ("ed", past), ("ing", present)):
            stem = word.removesuffix(ending)
            if stem == word or len(stem) < 3:
                continue
            doubled = stem[:-1] if len(stem) > 3 and stem[-1] == stem[-2] else ""
            for candidate in (stem, stem + "e", doubled):
                found = self.listed(candidate)
                if found and not (ending in ("'s", "s") and candidate != stem):
                    return tuple(add(sounds) for sounds in found)
        return ()

    def _compound(self, word: str) -> tuple[Pronunciation, ...]:
        for cut in range(len(word) - 3, 2, -1):
            first, second = self.listed(word[:cut]), self.listed(word[cut:])
            if first and second:
                weaker = tuple(sound.replace("1", "2") for sound in second[0])
                return (first[0] + weaker,)
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
