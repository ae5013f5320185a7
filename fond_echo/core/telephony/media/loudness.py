"""How loud a frame is: asked for every frame of every call, so it is compiled."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit


@njit(cache=True)
def _squares(frame):  # type: ignore[no-untyped-def]  # compiled
    total = 0.0
    for sample in frame:
        total += float(sample) * float(sample)
    return total


def warm() -> None:
    """Compile it, or load what was compiled, before a call waits for it."""
    rms(np.zeros(160, np.int16))


def rms(frame: npt.NDArray[np.int16]) -> float:
    """Root mean square in 16 bits, shape (n,), n > 0."""
    return math.sqrt(_squares(frame) / len(frame))
