"""What a telephone hears beside who speaks into it: its own loudspeaker, and who else is there."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.telephony.media.g711 import RATE, Law, decoded, encoded
from fond_echo.softphone.hearing import Samples

FRAME = 160


@dataclass(frozen=True)
class Surroundings:
    """Where a telephone is.

    Attributes:
        echo_db: how loud what it plays comes back to it, against what it was sent; none without.
        echo_ms: after how long.
        beside: somebody else who talks on and on, as loud as the clip is.
    """

    echo_db: float | None = None
    echo_ms: float = 100.0
    beside: Clip | None = None


class Room:
    """Puts under what is said what else is to be heard, frame by frame."""

    def __init__(self, around: Surroundings) -> None:
        frames = round(around.echo_ms / 20)
        self._gain = 0.0 if around.echo_db is None else 10 ** (around.echo_db / 20)
        self._coming = deque([np.zeros(FRAME)] * frames, maxlen=frames + 1)
        self._beside = np.zeros(0)
        if around.beside is not None:
            self._beside = at_rate(around.beside, RATE).samples.astype(np.float64) * 32_767
        self._at = 0

    def heard(self, frame: Samples) -> None:
        """The loudspeaker plays 20 ms."""
        self._coming.append(self._gain * frame.astype(np.float64))

    def under(self, payload: bytes, law: Law) -> bytes:
        """20 ms as they leave, with what is under them."""
        whole = decoded(payload, law) + self._coming[0]
        if len(self._beside):
            whole = whole + np.take(self._beside, range(self._at, self._at + FRAME), mode="wrap")
            self._at = (self._at + FRAME) % len(self._beside)
        return encoded(np.clip(np.round(whole), -32_768, 32_767).astype(np.int16), law)
