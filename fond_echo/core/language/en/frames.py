"""Everyday ways to ask for the same thing (English): what a request begins with, and what it may
begin with as well."""

from __future__ import annotations

import re
from collections.abc import Iterator

_FRAMES: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        r"how much (?:is|are) (.+)",
        (
            r"what does \1 cost",
            r"what is the price of \1",
            r"what do I pay for \1",
            r"what do you charge for \1",
            r"could you tell me the price of \1",
        ),
    ),
    (
        r"what (?:does|do) (.+) cost",
        (
            r"how much is \1",
            r"what is the price of \1",
            r"how expensive is \1",
            r"what would I have to pay for \1",
        ),
    ),
    (
        r"where (?:is|are|do i find|can i find) (.+)",
        (
            r"how do I find \1",
            r"how do I get to \1",
            r"can you tell me where \1 is",
            r"I am looking for \1",
            r"whereabouts is \1",
        ),
    ),
    (
        r"when (.+)",
        (r"at what time \1", r"on which day \1", r"from when on \1", r"what time \1"),
    ),
    (
        r"(?:can|may|could) i (.+)",
        (
            r"is it possible to \1",
            r"am I allowed to \1",
            r"I would like to \1",
            r"is it all right if I \1",
            r"how do I \1",
        ),
    ),
    (
        r"(?:can|could|would|will) you (.+)",
        (
            r"please \1",
            r"I would like you to \1",
            r"would it be possible for you to \1",
            r"I need somebody to \1",
        ),
    ),
    (
        r"(?:i want to|i'd like to|i would like to|i need to|we want to|we would like to) (.+)",
        (
            r"can I \1",
            r"how do I \1",
            r"is it possible to \1",
            r"I was hoping to \1",
            r"what do I do to \1",
        ),
    ),
    (
        r"(?:i need|i want|i'd like|i would like|we need) (.+)",
        (
            r"can I have \1",
            r"could I get \1",
            r"where do I get \1",
            r"please give me \1",
            r"I am after \1",
        ),
    ),
    (
        r"(?:do you have|have you got|is there|are there) (.+)",
        (
            r"do you have \1",
            r"have you got \1",
            r"I am looking for \1",
            r"could I get \1",
            r"what about \1",
        ),
    ),
    (
        r"how (?:do|can) i (.+)",
        (
            r"what do I have to do to \1",
            r"can you tell me how to \1",
            r"I want to \1",
            r"what is the way to \1",
        ),
    ),
    (
        r"(?:what|which) (?:is|are) (.+)",
        (r"tell me \1", r"can you tell me \1", r"I would like to know \1", r"do you know \1"),
    ),
    (
        r"my (.+) (?:is|are) (.+)",
        (
            r"the \1 is \2",
            r"there is something wrong with my \1, it is \2",
            r"I have a problem: my \1 is \2",
        ),
    ),
    (
        r"i (?:have )?lost (.+)",
        (r"I can't find \1", r"\1 is gone", r"has anybody found \1", r"I have mislaid \1"),
    ),
    (
        r"(book|order|cancel|change|show|send|tell|bring|reserve|find|call|make|get) (.+)",
        (
            r"can you \1 \2",
            r"could you \1 \2 please",
            r"I would like you to \1 \2",
            r"please \1 \2",
        ),
    ),
)

_COMPILED = tuple((re.compile(pattern, re.IGNORECASE), into) for pattern, into in _FRAMES)


def other_wordings(text: str) -> Iterator[str]:
    """Other ways to say a request, by its frame; nothing where it has none of the everyday ones.

    >>> list(other_wordings("How much is a ticket?"))[0]
    'what does a ticket cost'
    """
    plain = text.strip().rstrip(".?!")
    if not re.match(r"I\b", plain):
        plain = plain[:1].lower() + plain[1:]
    for pattern, into in _COMPILED:
        if (found := pattern.fullmatch(plain)) is not None:
            yield from (found.expand(frame) for frame in into)
            return
