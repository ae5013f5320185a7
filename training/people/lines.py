"""What all packages come to: recorded lines with their text."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from fond_echo.core.audio.clip import Clip


class UnreadableData(ValueError):
    """A data file is not laid out as this package expects; says where."""


@dataclass(frozen=True)
class Line:
    """A line that somebody recorded.

    Attributes:
        name: of the recording, unique in its package.
        text: the subtitle as it stands.
        speaker: who says it; empty where that is not known.
        sound: the recording as it was stored.
    """

    name: str
    text: str
    speaker: str
    sound: Clip


def normalized(text: str) -> list[str]:
    """The words of a subtitle, in lower case, with apostrophes only.

    >>> normalized("Well... I'd say -- 'good day', sir!")
    ['well', "i'd", 'say', 'good', 'day', 'sir']
    """
    plain = re.sub(r"[^a-z0-9' ]", " ", text.lower().replace("’", "'"))
    words = (word if word in CLIPPED else word.strip("'") for word in plain.split())
    return [word for word in words if word]


CLIPPED = frozenset("'em 'cause 'tis 'til".split())
"""Words that begin with an apostrophe of their own."""


def of_bytes(samples: npt.NDArray[np.uint8], rate: int) -> Clip:
    """Unsigned samples of 8 bits as a clip."""
    return Clip(((samples.astype(np.float32) - 128) / 128).astype(np.float32), rate)
