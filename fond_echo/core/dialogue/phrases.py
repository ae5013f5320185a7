"""Examples with a place for free words: "announce that {message}"."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass

PLACE = re.compile(r"\{([a-z][a-z0-9_-]*)\}")


def has_place(example: str) -> bool:
    """Whether an example has a place for free words."""
    return "{" in example


@dataclass(frozen=True)
class Phrase:
    """An example with one place for free words, which are taken as they are said.

    Attributes:
        slot: that the words are for.
        begin, end: the words before and after the place, in lower case; one of them may be none.
        example: as it was written.
        closed: whether it closes with a mark right behind its place, which is then none of its
            words.
    """

    slot: str
    begin: tuple[str, ...]
    end: tuple[str, ...]
    example: str
    closed: bool = False

    @classmethod
    def of(cls, example: str) -> Phrase:
        """Raises ValueError where it has not one place, or no words beside it."""
        found = PLACE.findall(example)
        if len(found) != 1 or "{" in PLACE.sub("", example):
            raise ValueError("an example has one place for free words at most: {SLOT}")
        before, _, after = example.partition(f"{{{found[0]}}}")
        begin, end = _words(before), _words(after)
        if not (begin or end):
            raise ValueError("an example needs words beside its place")
        closed = not end and after.strip() in (".", "?", "!")
        return cls(found[0], begin, end, example, closed)

    @property
    def fixed(self) -> str:
        """The words beside the place."""
        return " ".join((*self.begin, *self.end))

    def words_in(self, text: str, around: Collection[str] = ()) -> str:
        """The free words of a text that is said so, as they stand in it; empty where it is not.

        Args:
            around: words that may stand before it.
        """
        spans = list(_spans(text))
        words = [text[a:b].lower() for a, b in spans]
        first = 0
        while first < len(words) and words[first] in around:
            first += 1
        last = len(words) - len(self.end)
        if tuple(words[first : first + len(self.begin)]) != self.begin:
            return ""
        if self.end and tuple(words[last:]) != self.end:
            return ""
        first += len(self.begin)
        if first >= last:
            return ""
        # Up to the end of the text, where nothing stands behind: a question mark belongs to it.
        end = spans[last][0] if self.end else len(text)
        found = text[spans[first][0] : end].strip().strip(",;:")
        return found.rstrip(".?!") if self.closed else found


def said_in(phrases: Sequence[Phrase], text: str, around: Collection[str]) -> tuple[Phrase, str]:
    """The phrase with the most words beside its place that a text is said by, and its free words.

    Raises:
        LookupError: the text has no such place.
    """
    for phrase in sorted(phrases, key=lambda each: -len(each.fixed)):
        if words := phrase.words_in(text, around):
            return phrase, words
    raise LookupError(text)


def _words(text: str) -> tuple[str, ...]:
    return tuple(text[a:b].lower() for a, b in _spans(text))


def _spans(text: str) -> Iterator[tuple[int, int]]:
    return (found.span() for found in re.finditer(r"[\w'’-]+", text))
