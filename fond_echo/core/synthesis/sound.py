"""What a synthesizer makes."""

from __future__ import annotations

from dataclasses import dataclass

from fond_echo.core.audio.clip import Clip


@dataclass(frozen=True)
class SpokenSound:
    """A part of speech: its sound and the words in it."""

    clip: Clip
    text: str
