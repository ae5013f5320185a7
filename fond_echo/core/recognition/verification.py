"""Words that were spoken, and did not come back when the sound was heard again."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass

from fond_echo.core.recognition.scoring import edits

MAX_HEARD = 5


@dataclass(frozen=True)
class Doubt:
    """A word that was spoken, and what was heard in its place; "" where nothing was."""

    word: str
    heard: str


@dataclass(frozen=True)
class Mispronounced:
    """A word in many texts.

    Attributes:
        said: how often it was spoken where it was heard again.
        missed: how often it did not come back.
        heard: what was heard in its place, the most frequent first.
        where: marks of the texts in which it was missed, the latest first.
    """

    word: str
    said: int
    missed: int
    heard: tuple[str, ...]
    where: tuple[str, ...]


def doubts(
    said: Sequence[str], heard: Sequence[str], sounds: Callable[[str], Collection[object]]
) -> list[Doubt]:
    """The words of a text that did not come back.

    Args:
        said: its spoken tokens; `heard` those of what was heard.
        sounds: the pronunciations of a word: one that sounds like what was heard did come back.

    >>> doubts(["to", "pell"], ["two", "bell"], lambda word: {word[:2].replace("tw", "to")})
    [Doubt(word='pell', heard='bell')]
    """
    found = []
    for each in edits(said, heard).steps:
        if each.step not in ("other", "missing"):
            continue
        if each.heard and set(sounds(each.said)) & set(sounds(each.heard)):
            continue
        found.append(Doubt(each.said, each.heard))
    return found


def mispronounced(
    texts: Iterable[tuple[str, Sequence[str], Sequence[Doubt]]],
) -> list[Mispronounced]:
    """The words that are missed in many texts, the worst first.

    Args:
        texts: a mark, the spoken tokens and the doubts of each, the latest first.
    """
    said: Counter[str] = Counter()
    heard: dict[str, Counter[str]] = {}
    where: dict[str, list[str]] = {}
    for mark, words, missed in texts:
        said.update(words)
        for doubt in missed:
            heard.setdefault(doubt.word, Counter())[doubt.heard] += 1
            places = where.setdefault(doubt.word, [])
            if mark not in places:
                places.append(mark)
    found = [
        Mispronounced(
            word, max(said[word], sum(counts.values())), sum(counts.values()),
            tuple(each for each, _ in counts.most_common(MAX_HEARD)), tuple(where[word]),
        )
        for word, counts in heard.items()
    ]  # fmt: skip
    return sorted(found, key=lambda each: (-each.missed, -each.missed / each.said, each.word))
