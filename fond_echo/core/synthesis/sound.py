"""What a synthesizer makes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from fond_echo.core.audio.clip import Clip

NO_RECORDINGS: Mapping[str, Clip] = {}


@dataclass(frozen=True)
class SpokenSound:
    """A part of speech: its sound and the words in it.

    Attributes:
        words: each with its begin and end, in seconds from the start of the part.
        places: those that markup names, with their times.
    """

    clip: Clip
    text: str
    words: tuple[tuple[str, float, float], ...] = ()
    places: tuple[tuple[str, float], ...] = ()
