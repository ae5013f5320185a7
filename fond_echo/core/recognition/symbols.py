"""What the acoustic network listens to, and what it gives probabilities of."""

from __future__ import annotations

from fond_echo.core.language.phonemes import PHONEMES

RATE = 16_000
"""Of the sound, in Hz."""

BLANK = 0
SYMBOLS = {phoneme: place + 1 for place, phoneme in enumerate(PHONEMES)}
"""A place for every phoneme, after the blank."""
