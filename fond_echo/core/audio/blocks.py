"""A long file a little at a time, in memory that does not grow with it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soxr

from fond_echo.core.audio.clip import Samples
from fond_echo.core.audio.containers import Limits, opened
from fond_echo.core.audio.errors import EmptySound, UnknownSound
from fond_echo.core.audio.sniff import CONTAINERS, sniff

HEAD = 4_096
LIMITS = Limits(size=2**40, seconds=24 * 3600.0)


def blocks(file: Path, rate: int, seconds: float = 1.0) -> Iterator[Samples]:
    """Mono samples of a file at a rate, so many seconds at a time.

    Raises:
        SoundError: like `decode`, at the first block or where the fault lies.
    """
    with file.open("rb") as source:
        head = source.read(HEAD)
        if not head:
            raise EmptySound("the file has no bytes")
        container = sniff(head)
        if container is None:
            names = ", ".join(each.name for each in CONTAINERS)
            raise UnknownSound(
                "the bytes are not sound in a known container", remedy=f"send {names}"
            )
        source.seek(0)
        with opened(source, container, LIMITS) as sound:
            resampler = soxr.ResampleStream(sound.rate, rate, 1, dtype="float32", quality="HQ")
            waiting, count, wanted = [], 0, int(seconds * sound.rate)
            for part in sound.parts:
                waiting.append(part)
                count += len(part)
                if count >= wanted:
                    yield resampler.resample_chunk(np.concatenate(waiting))
                    waiting, count = [], 0
            rest = np.concatenate(waiting) if waiting else np.zeros(0, np.float32)
            yield resampler.resample_chunk(rest, last=True)
