"""An engine that speaks as a signal lamp does: in Morse code (ITU-R M.1677), as tones."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Any

import numpy as np

from fond_echo.core.audio.clip import Clip
from fond_echo.core.errors import FondEchoError
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.engines.registry import Engine, EngineSettings, Purpose

RATE, DOT = 16_000, 0.06
"""Samples and seconds; a dash is three dots."""

CODE = dict(
    zip(
        "abcdefghijklmnopqrstuvwxyz",
        ".- -... -.-. -.. . ..-. --. .... .. .--- -.- .-.. -- -. --- .--. --.- .-. ... - ..- ...- "
        ".-- -..- -.-- --..".split(),
        strict=True,
    )
)


class NoLetters(FondEchoError):
    """A text without a letter that the lamp knows."""

    code = "lamp-no-letters"


class Lamp:
    """Speaks word by word, so that the first is heard while the rest is made.

    Args:
        settings: where the speech process is, and an HTTP client; a lamp needs neither.
        purpose: voice-note, call, long-file or program; in a call it is quicker.
    """

    def __init__(self, settings: EngineSettings, purpose: Purpose) -> None:
        self._dot = DOT / 2 if purpose == "call" else DOT

    async def speak(self, text: str, voice: str, **_: Any) -> AsyncIterator[SpokenSound]:
        """Part by part. Raises NoLetters, and the next engine in the assistant's order is asked."""
        words = [word for word in text.lower().split() if CODE.keys() & set(word)]
        if not words:
            raise NoLetters(f"there is no letter in {text!r}", remedy="write words")
        for word in words:
            signs = " ".join(CODE.get(letter, "") for letter in word)
            yield SpokenSound(Clip(self._tones(signs), RATE), word)

    def _tones(self, signs: str) -> np.ndarray[Any, np.dtype[np.float32]]:
        """Tones of 600 Hz and what is between them, float32 within ±1."""
        dot = round(self._dot * RATE)
        lengths = [{".": dot, "-": 3 * dot, " ": 0}[sign] for sign in signs]
        parts = []
        for length in lengths:
            parts += [0.4 * np.sin(2 * np.pi * 600 / RATE * np.arange(length)), np.zeros(dot)]
        return np.concatenate([*parts, np.zeros(4 * dot)]).astype(np.float32)


LAMP = Engine("lamp", "speak", Lamp, languages=frozenset({"en"}), voices=frozenset({"lantern"}))
