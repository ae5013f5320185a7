"""What a language is made of: everything that is said, heard or written in it, in one object.

A language is a package that holds a `LANGUAGE`. Ours are the folders beside this file; others come
in by the entry point group `fond_echo.languages` (see `registry`). Its parts may be modules: a
protocol's functions are then the module's own.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Any, Literal, Protocol

from fond_echo.core.language.prosody import Prosody

if TYPE_CHECKING:
    from fond_echo.core.grammar.model import Grammar
    from fond_echo.core.language.phonemes import Pronunciation

Intent = Literal[
    "goodbye",
    "operator",
    "never-mind",
    "again",
    "more",
    "redo",
    "undo",
    "start-over",
    "forget-me",
    "about-me",
    "stop-writing",
    "write-again",
]
"""What is understood in every assistant."""


Melody = Literal["fall", "rise", "list", "command", "wh"]
"""How a phrase ends and runs: a statement falls, a question of yes or no rises, what goes on stays
up a little, a command falls steeply, a question with what or where begins high."""

UNFINISHED = 0.16
"""Seconds after a phrase that no mark ends."""


@dataclass(frozen=True)
class Phrase:
    """A stretch spoken in one breath.

    Attributes:
        tokens: spoken words. pause: seconds of silence after it. melody: of its pitch. prosodies,
        sounds: by word, how it is said, and its phonemes where they are given; empty where
            all are said as usual.
        marks: names of places, each before the word of a number.
        voice: another than usual, by name.
        seconds: how long it lasts; 0 is as long as it takes.
        exact: the pause is as given, however fast is spoken.
    """

    tokens: tuple[str, ...]
    pause: float
    melody: Melody = "fall"
    prosodies: tuple[Prosody, ...] = ()
    sounds: tuple[Pronunciation, ...] = ()
    marks: tuple[tuple[str, int], ...] = ()
    voice: str = ""
    seconds: float = 0.0
    exact: bool = False


class Numbers(Protocol):
    """Numbers as words, and words as numbers."""

    TIMES: frozenset[str]
    """Words before a digit that comes more than once: double."""

    def cardinal(self, number: int) -> list[str]:
        """42 → forty two."""

    def is_number_word(self, token: str) -> bool:
        """Whether a word can be part of a cardinal number."""

    def value_of(self, tokens: list[str]) -> int | None:
        """forty two → 42; None where the words make no number."""

    def ordinal_value(self, tokens: list[str]) -> int | None:
        """forty second → 42; None where the words make no ordinal."""

    def digit_by_digit(self, tokens: Sequence[str]) -> list[tuple[str, int, int]]:
        """Tokens with every number in them as its digits, each with the tokens that it stands for,
        from and to."""

    def years_as_numbers(self, tokens: Sequence[str]) -> list[tuple[str, int, int]]:
        """The same with every year as a cardinal number."""


class Wording(Protocol):
    """Words as they mean."""

    FILLERS: frozenset[str]
    """Words that say little about what is asked."""

    ASKING: frozenset[str]
    """Words that say that something is asked, and a little of what."""

    GOES_ON: frozenset[str]
    """Words after which a sentence goes on: it is not over at a pause behind one."""

    AROUND: frozenset[str]
    """Greetings and thanks at the ends of a request."""

    CORRECTING: frozenset[str]
    """Words around a value that takes another's place: "no, I meant"."""

    def common(self, word: str) -> bool:
        """Whether a word is so common that it is no misspelling of another."""

    def known(self, word: str) -> bool:
        """Whether a word is one of the language, so that nobody who typed it meant another."""

    def stem(self, word: str) -> str:
        """A word without its usual endings."""

    def concept(self, word: str) -> str:
        """What a word stands for beside others: its group's name, or its stem."""

    PASSING: frozenset[str]
    """Words, and what words stand for, that explain nothing about what a request is for."""

    WEAK: frozenset[str]
    """Words that say little alone: of time, and those that go with anything."""

    REPLYING: frozenset[str]
    """Words by which an answer begins or ends, and says nothing: "of course", "anything else"."""

    NEGATING: frozenset[str]
    """Words that say that something is not so."""

    DETERMINERS: frozenset[str]
    """Words after which a thing is named."""

    FACTS: frozenset[str]
    """Kinds of question that ask about the world, not for a service."""

    EVASIONS: re.Pattern[str]
    """Phrases that go around a question."""

    CAPITALIZED: frozenset[str]
    """Words with a capital letter that are nobody's name."""

    def kind_of_question(self, tokens: Sequence[str]) -> str:
        """The kind of question that spoken words are; "" where they only state something."""

    def other_wordings(self, text: str) -> Iterable[str]:
        """Other ways to say a request, by everyday frames; none where it has none of these."""

    def rarity(self, word: str) -> float:
        """How rare a word is, 0 to 1."""

    URGENT: frozenset[str]
    """Words of what is to be done, and of what is not."""

    PLEASANT: frozenset[str]
    """Words of pleasantries."""

    PARTICLES: frozenset[str]
    """Words that make another verb of the one before them."""

    def concepts(self, tokens: Sequence[str]) -> list[str]:
        """Spoken tokens as what they stand for, set phrases first."""


class Types(Protocol):
    """The built-in types: how they sound, and what that is worth."""

    @property
    def SPOTTED(self) -> Sequence[str]:  # noqa: N802  # a constant where it is a module
        """The types that are recognized within an example, such as date and time."""

    OPENING: frozenset[str]
    """Words with which one of these may begin, beside numbers."""

    @property
    def BEFORE_HALF(self) -> Sequence[tuple[str, ...]]:  # noqa: N802  # a constant, as above
        """Words that may stand between a time and the half of the day: "in the"."""

    def builtin_grammar(self) -> Grammar:
        """A rule for each type."""

    def value_of_kind(
        self, kind: str, tokens: Sequence[str], literal: str | None, now: datetime
    ) -> Any:
        """A number, or text; money as {amount, currency}, times as HH:MM, dates and durations in
        ISO 8601. None where the tokens make none."""

    def shortened(self, kind: str, tokens: Sequence[str]) -> list[str] | None:
        """What is held against a type's rule where the whole answer does not fit it; None where
        nothing else is."""


class Letters(Hashable, Protocol):
    """How a word is said that no lexicon has."""

    @property
    def NAMES(self) -> Mapping[str, Pronunciation]:  # noqa: N802
        """What single letters are called."""

    def knows(self, letter: str) -> bool:
        """Whether a letter has sounds."""

    def pronounce_by_letters(self, word: str) -> Pronunciation:
        """By letter-to-sound rules; always something for a word with a letter in it."""


class Writing(Protocol):
    """Text as it is spoken, and spoken words as they are written."""

    def spoken_tokens(self, text: str) -> list[str]:
        """The words that are said for a text; signs without a sound are left out."""

    def phrases(self, text: str) -> list[Phrase]:
        """A text cut at its punctuation into phrases with the pauses between them."""

    def say_as(self, kind: str, text: str, given: str) -> list[list[str]]:
        """The words of a text whose kind is known (the kinds of `ssml.SAY_AS`), in groups with
        small pauses between them; `given` is its format, such as "dmy" of a date."""

    def written_text(self, tokens: Collection[str], names: Collection[str] = ()) -> str:
        """Spoken tokens in written form; names are written with a capital."""

    def written_parts(self, parts: Iterable[Sequence[str]], names: Collection[str] = ()) -> str:
        """Stretches with silence between them in written form."""

    def sentences_of(self, text: str) -> list[str]:
        """The sentences of a text; nothing is lost but the space between them."""


def _no_ending(
    word: str, listed: Callable[[str], tuple[Pronunciation, ...]]
) -> tuple[Pronunciation, ...]:
    return ()


def _as_alone(word: str, ways: Sequence[Pronunciation]) -> tuple[Pronunciation, ...]:
    return ()


def _one_way(tokens: Sequence[str], place: int) -> Pronunciation | None:
    return None


@dataclass(frozen=True)
class Language:
    """One language.

    Attributes:
        code: of ISO 639, such as "en".
        name: as it is called in English.
        sentences: what the service itself says in a conversation, by name; English lists them all.
        intent_of: what a sentence asks of any assistant, from its spoken tokens.
        homograph: how a word is said that is spelt like another, by the words beside it.
        with_ending: how a word is said that is a listed one with an ending.
        connected: further ways a word with its ways may be heard in running speech.
        everywhere: what can be said to any assistant, as it is likely to be heard.
        answers: how a question with yes or no is answered, likewise.
        spelled: words of which a number or a spelling consists that may go on.
    """

    code: str
    name: str
    writing: Writing
    numbers: Numbers
    wording: Wording
    types: Types
    letters: Letters
    sentences: Mapping[str, str]
    intent_of: Callable[[Sequence[str]], Intent | None]
    homograph: Callable[[Sequence[str], int], Pronunciation | None] = _one_way
    with_ending: Callable[
        [str, Callable[[str], tuple[Pronunciation, ...]]], tuple[Pronunciation, ...]
    ] = _no_ending
    connected: Callable[[str, Sequence[Pronunciation]], tuple[Pronunciation, ...]] = _as_alone
    everywhere: tuple[str, ...] = ()
    answers: tuple[str, ...] = ()
    spelled: frozenset[str] = frozenset()
