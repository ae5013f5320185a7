"""Sentences and paragraphs of what was said for long, from its pauses and its words."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

PAUSE = 0.5
"""Seconds: stretches of speech are apart by so much at least."""

ENDS_SENTENCE = 0.9
"""After so long a sentence is over, whatever its last word."""

ENDS_PARAGRAPH = 2.0
MAY_END_PARAGRAPH, MIN_SENTENCES, MAX_SENTENCES = 1.2, 4, 10
"""A shorter pause ends a paragraph that has so many sentences; none has more than so many."""


@dataclass(frozen=True)
class Stretch:
    """Words that were said without a pause, and when, in seconds from the beginning."""

    text: str
    start: float
    end: float


@dataclass(frozen=True)
class Paragraph:
    """Sentences with the time at which each begins."""

    sentences: tuple[str, ...]
    starts: tuple[float, ...]

    @property
    def text(self) -> str:
        return " ".join(self.sentences)


def paragraphs(stretches: Sequence[Stretch], goes_on: Callable[[str], bool]) -> list[Paragraph]:
    """What was said, as it is read.

    Args:
        goes_on: whether a sentence goes on after a word, such as "the" or "and".

    >>> found = paragraphs(
    ...     [Stretch("the boat is late because of the", 0.0, 2.0), Stretch("wind.", 2.6, 3.0),
    ...      Stretch("We wait", 5.5, 6.0)], lambda word: word == "the")
    >>> [each.text for each in found]
    ['The boat is late because of the wind.', 'We wait.']
    """
    found: list[Paragraph] = []
    sentences: list[str] = []
    starts: list[float] = []
    words, since = "", 0.0

    def close() -> None:
        nonlocal sentences, starts
        if sentences:
            found.append(Paragraph(tuple(sentences), tuple(starts)))
        sentences, starts = [], []

    for place, each in enumerate(stretches):
        text = each.text.strip()
        after = stretches[place + 1].start - each.end if place + 1 < len(stretches) else 1e9
        last = text.rstrip(".?!,;").rpartition(" ")[2].lower()
        over = after >= ENDS_SENTENCE or not goes_on(last)
        if not words:
            since = each.start
        # A sign in the middle of a sentence that goes on came from the pause alone.
        words = f"{words} {text if over else text.rstrip('.')}".strip()
        if not over:
            continue
        sentences.append(_sentence(words))
        starts.append(since)
        words = ""
        enough = after >= MAY_END_PARAGRAPH and len(sentences) >= MIN_SENTENCES
        if after >= ENDS_PARAGRAPH or enough or len(sentences) >= MAX_SENTENCES:
            close()
    if words:
        sentences.append(_sentence(words))
        starts.append(since)
    close()
    return found


def in_sentences(stretch: Stretch, sentences_of: Callable[[str], Sequence[str]]) -> list[Stretch]:
    """A stretch as its sentences, each with its share of the time by its letters: an engine may
    give all that was said as one."""
    sentences = sentences_of(stretch.text)
    if len(sentences) < 2:
        return [stretch]
    total = sum(map(len, sentences))
    found, begun = [], stretch.start
    for sentence in sentences:
        end = begun + (stretch.end - stretch.start) * len(sentence) / total
        found.append(Stretch(sentence, begun, end))
        begun = end
    return found


def _sentence(words: str) -> str:
    """With a capital and a sign at its end."""
    begun = words[:1].upper() + words[1:]
    return begun if begun[-1:] in ".?!" else f"{begun.rstrip(',;')}."
