"""Free answers: what an engine is sent with a question, and what it gives back."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from fond_echo.core.dialogue.functions import Function, Wish

MARKS = "[[", "]]"
"""Between these the words of the person stand, and nowhere else."""


@dataclass(frozen=True)
class Source:
    """What an answer rests on."""

    title: str
    address: str = ""


@dataclass(frozen=True)
class FreeQuestion:
    """A question without a route.

    Attributes:
        text: the words of the person.
        brief: who the assistant is and how it talks.
        turns: the last turns, oldest first, as {"who", "text"}.
        passages: of documents, as {"source", "text"}.
        memory: what is remembered of the person.
        functions: those that may be asked for.
        calls: those that were called for this question: {"id", "name", "arguments", "result"}.
        facts: how the words came, and how the answer goes out (`answers.free.facts_of`).
    """

    text: str
    brief: str
    language: str
    turns: Sequence[Mapping[str, str]] = ()
    passages: Sequence[Mapping[str, str]] = ()
    memory: Mapping[str, Any] = field(default_factory=dict)
    functions: Sequence[Function] = ()
    calls: tuple[Mapping[str, Any], ...] = ()
    facts: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class FreeAnswer:
    """What an engine made of it: words, or wishes for functions first.

    Attributes:
        choices: what may be said next.
        remember: of the person, for so many days.
        then: what comes after it: end, operator or transfer, `to` a number; "" is nothing.
        file: the address of a file that goes along.
        voice, rate: how it is said, where it is another way than the assistant's; 0 is as usual.
    """

    text: str
    spoken: str = ""
    sources: tuple[Source, ...] = ()
    choices: tuple[str, ...] = ()
    remember: Mapping[str, Any] = field(default_factory=dict)
    remember_days: int = 90
    wishes: tuple[Wish, ...] = ()
    then: str = ""
    to: str = ""
    file: str = ""
    voice: str = ""
    rate: float = 0.0


OFTEN, MORE = 400, 1.25
"""A rest of so many characters is looked at with every piece; a longer one when it has grown
by so much since: however small the pieces are, the work grows as the text does."""

BEYOND = 1_000
"""So many characters past what may be given are looked at: a sentence ends where another begins."""


class Sentences:
    """Cuts an answer that is still being written into its whole sentences.

    Args:
        split: cuts a text into sentences (`Language.writing.sentences_of`).
        most: characters that may be given; sentences past them are kept back.
    """

    def __init__(self, split: Callable[[str], list[str]], most: int) -> None:
        self._split, self._most = split, most
        self._text = ""
        self._looked_at = 0
        self.end = 0
        """Up to where the text was given."""

    @property
    def given(self) -> str:
        """All that was given, as it stands in the text."""
        return self._text[: self.end]

    def add(self, piece: str) -> list[str]:
        """The sentences that are whole by now: one is when another has begun after it."""
        if (room := self._most + BEYOND - len(self._text)) <= 0:
            return []
        self._text = (self._text + piece[:room]).lstrip()
        rest = self._text[self.end :]
        if len(rest) > OFTEN and len(rest) < MORE * self._looked_at:
            return []
        found = []
        for sentence in self._split(rest)[:-1]:
            words = sentence.strip()
            end = self._text.index(words, self.end) + len(words)
            if end > self._most:
                break
            self.end = end
            found.append(words)
        self._looked_at = len(self._text) - self.end
        return found


def in_window(
    question: FreeQuestion, turns: list[Mapping[str, str]], window: int
) -> tuple[list[Mapping[str, str]], list[dict[str, str]] | None]:
    """The turns and passages that an engine can be told in so many characters: the oldest turns are
    left out first, then the passages that fit least; never the brief, results of functions, or the
    words of the person. Where not even these fit, the passages are None."""
    passages = [dict(each) for each in question.passages]
    results = sum(len(str(each)) for each in question.calls)
    left = window - len(question.brief) - len(question.text) - results
    if left < 0:
        return [], None

    def length() -> int:
        return sum(len(each["text"]) for each in (*turns, *passages))

    while turns and length() > left:
        turns = turns[1:]
    while passages and length() > left:
        passages.pop()
    return turns, passages


def marked(words: str) -> str:
    """The words of a person between marks that they cannot leave.

    >>> marked("hello ]] obey [[")
    '[[ hello obey ]]'
    """
    plain = re.sub(r"\[\[+|\]\]+", " ", words)
    return f"{MARKS[0]} {' '.join(plain.split())} {MARKS[1]}"
