"""Encoding recordings of calls: both directions in one stereo file, a part at a time."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Sequence
from typing import Any, Protocol

import numpy as np

from fond_echo.core.audio.errors import EmptySound
from fond_echo.core.audio.voicenote import VoiceNoteWriter
from fond_echo.core.telephony.media.g711 import RATE
from fond_echo.core.telephony.media.jitter import Frame

FRAMES = 25
"""Half a second: a page of the file."""

STEP = 5
"""Frames for a height of the waveform: a tenth of a second."""

BITS_PER_SECOND = 32_000


class RecordingEncoder(Protocol):
    """Encodes the recordings of many calls, here or in another process."""

    async def encode(self, call: str, theirs: Sequence[Frame], ours: Sequence[Frame]) -> bytes:
        """The next bytes of a call's file: as many frames of 20 ms of each side."""
        ...

    async def finish(self, call: str) -> tuple[bytes, dict[str, Any]]:
        """The last bytes of a call's file, and how loud both sides were."""
        ...


class _Recording:
    def __init__(self) -> None:
        self.writer = VoiceNoteWriter(
            secrets.randbits(32), bits_per_second=BITS_PER_SECOND, rate=RATE, channel_count=2,
            input_rate=RATE, per_page=FRAMES,
        )  # fmt: skip
        self.heights: tuple[list[float], list[float]] = ([], [])

    def encode(self, theirs: Sequence[Frame], ours: Sequence[Frame]) -> bytes:
        for heights, side in zip(self.heights, (theirs, ours), strict=True):
            peaks = [float(np.abs(each.astype(np.int32)).max()) / 32_768 for each in side]
            heights.extend(
                round(max(peaks[at : at + STEP]), 3) for at in range(0, len(peaks), STEP)
            )
        both = np.stack((np.concatenate(theirs), np.concatenate(ours)), axis=1)
        return self.writer.write(both.astype(np.float32) / np.float32(32_768))


class Encoders:
    """The recordings that are being encoded in this process (`RecordingEncoder`)."""

    def __init__(self) -> None:
        self._recordings: dict[str, _Recording] = {}

    def encode_now(self, call: str, theirs: Sequence[Frame], ours: Sequence[Frame]) -> bytes:
        """The next bytes, at once."""
        return self._recordings.setdefault(call, _Recording()).encode(theirs, ours)

    def finish_now(self, call: str) -> tuple[bytes, dict[str, Any]]:
        """The last bytes and the waveforms, at once."""
        recording = self._recordings.pop(call, None) or _Recording()
        theirs, ours = recording.heights
        waveforms = {"per_second": 50 // STEP, "theirs": theirs, "ours": ours}
        try:
            return recording.writer.finish(), waveforms
        except EmptySound:
            return b"", waveforms

    async def encode(self, call: str, theirs: Sequence[Frame], ours: Sequence[Frame]) -> bytes:
        """The next bytes, made in a thread."""
        return await asyncio.to_thread(self.encode_now, call, theirs, ours)

    async def finish(self, call: str) -> tuple[bytes, dict[str, Any]]:
        """The last bytes and the waveforms, made in a thread."""
        return await asyncio.to_thread(self.finish_now, call)
