"""How words are said: a lexicon, endings, compounds, and letters where nothing else helps."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from fond_echo.core.language.language import Language
from fond_echo.core.language.phonemes import Pronunciation
from fond_echo.core.language.registry import language as language_of


class Lexicon:
    """Pronunciations of words, the first of each being the usual one.

    Args:
        entries: word (lower case) to its pronunciations.
        more: entries that go before those, such as an assistant's own names.
        language: whose letters and endings say what is not listed; English if not given.
    """

    def __init__(
        self,
        entries: Mapping[str, Sequence[Pronunciation]],
        more: Mapping[str, Sequence[Pronunciation]] | None = None,
        language: Language | None = None,
    ) -> None:
        self.language = language or language_of()
        self._entries = entries
        self._more = dict(more or {})

    def __contains__(self, word: str) -> bool:
        return word in self._more or word in self._entries

    def extended(self, more: Mapping[str, Sequence[Pronunciation]]) -> Lexicon:
        """This lexicon with entries that go before its own."""
        return Lexicon(self._entries, {**self._more, **more}, self.language)

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

        A word that is not listed is tried as a listed one with an ending, as
        two listed ones in a row, as a single letter, and last by letter-to-sound rules.
        """
        word = word.lower()
        return self.built(word) or (self.language.letters.pronounce_by_letters(word),)

    def built(self, word: str) -> tuple[Pronunciation, ...]:
        """As `pronunciations`, but none where only letter-to-sound rules would help."""
        listed = self.listed(word)
        if listed:
            return listed
        names = self.language.letters.NAMES
        if len(word) == 1 and word in names:
            return (names[word],)
        return self.language.with_ending(word, self.listed) or self._compound(word)

    def in_phrase(self, tokens: Sequence[str], place: int) -> Pronunciation:
        """How a word is said where it stands: as an assistant's own lexicon has it, as the words
        beside it want it, or as usual."""
        word = tokens[place]
        found = None if word in self._more else self.language.homograph(tokens, place)
        return found or self.pronunciations(word)[0]

    def phonemes(self, words: Iterable[str]) -> list[Pronunciation]:
        """The usual pronunciation of each word."""
        return [self.pronunciations(word)[0] for word in words]

    def _compound(self, word: str) -> tuple[Pronunciation, ...]:
        for cut in range(len(word) - 3, 2, -1):
            first, second = self.listed(word[:cut]), self.listed(word[cut:])
            if first and second:
                weaker = tuple(sound.replace("1", "2") for sound in second[0])
                return (first[0] + weaker,)
        return ()
