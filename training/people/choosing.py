"""Closed sets of the lines of characters that are for choosing, for fitting how sure to be: each
line held against a set that it is in and against one that it is not in."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from fond_echo.core.audio.clip import Clip
from fond_echo.speech.material import lexicon
from training.people.__main__ import Listed, listed
from training.people.lines import normalized
from training.people.shards import samples_of, sayable
from training.rooms import RATE, companded

SIZES = (8, 30)
MAX_WORDS = 9
"""Longer lines are no phrases that an assistant would expect."""


@dataclass(frozen=True)
class Held:
    """A line against a set of phrases; whether it is one of them."""

    clip: Clip
    words: tuple[str, ...]
    phrases: tuple[str, ...]
    inside: bool


def lines_of(folder: Path, part: str = "choose") -> list[tuple[Listed, tuple[str, ...]]]:
    """Short lines of a part whose words the lexicon is sure of, with these words."""
    known = lexicon()
    rows = [(row, tuple(normalized(row.text))) for row in listed(folder) if row.part == part]
    return [
        (row, said)
        for row, said in rows
        if 0 < len(said) <= MAX_WORDS and sayable(list(said), known)
    ]


def held(folder: Path, half: int) -> Iterator[Held]:
    """Every other line, clean and by telephone, in sets of two sizes.

    Args:
        half: 0 or 1.
    """
    rng = random.Random(half)
    lines = lines_of(folder)
    texts = sorted({" ".join(said) for _, said in lines})
    for row, said in lines[half::2]:
        text = " ".join(said)
        samples = samples_of(row) * np.float32(0.5)
        for number, heard in enumerate((samples, companded(samples, "mu"))):
            size = SIZES[(number + len(said)) % 2]
            others = rng.sample([each for each in texts if each != text], size)
            clip = Clip(heard, RATE)
            yield Held(clip, said, (text, *others[1:]), True)
            yield Held(clip, said, tuple(others), False)
