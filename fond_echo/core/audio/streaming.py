"""Sound written while it is made: the bytes of a file, piece by piece."""

from __future__ import annotations

import struct
from typing import Protocol

import numpy as np
import soxr

from fond_echo.core.audio.clip import Clip, Samples, join
from fond_echo.core.audio.containers import as_int16, encode
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.audio.voicenote import VoiceNoteWriter
from fond_echo.core.telephony.media.g711 import in_law

MULAW_RATE = 8_000
MEDIA_TYPES = {
    "ogg": "audio/ogg; codecs=opus",
    "wav": "audio/wav",
    "flac": "audio/flac",
    "mp3": "audio/mpeg",
    "mulaw": "audio/basic",
}
"""`audio/basic` is mu-law, 8 kHz, mono (RFC 2046 §4.3)."""

FIRST_PAGE = 10
"""Packets in a page of what is streamed: 200 ms."""

UNKNOWN_LENGTH = 0xFFFFFFFF


class Writer(Protocol):
    """Takes parts of a sound at 16 kHz, and gives bytes."""

    def write(self, clip: Clip) -> bytes: ...

    def finish(self) -> bytes: ...


class OggWriter:
    """A voice note, in short pages."""

    def __init__(self, serial: int, rate: int = 16_000) -> None:
        self._writer = VoiceNoteWriter(serial, input_rate=rate, rate=rate, per_page=FIRST_PAGE)

    def write(self, clip: Clip) -> bytes:
        return self._writer.write(clip.samples)

    def finish(self) -> bytes:
        """Raises EmptySound where nothing was written."""
        return self._writer.finish()


class WavWriter:
    """WAV of 16 bits, whose length is not known when it begins."""

    def __init__(self, rate: int = 16_000) -> None:
        self._head = struct.pack(
            "<4sI4s4sIHHIIHH4sI", b"RIFF", UNKNOWN_LENGTH, b"WAVE", b"fmt ", 16, 1, 1, rate,
            2 * rate, 2, 16, b"data", UNKNOWN_LENGTH,
        )  # fmt: skip

    def write(self, clip: Clip) -> bytes:
        head, self._head = self._head, b""
        return head + as_int16(clip.samples).astype("<i2").tobytes()

    def finish(self) -> bytes:
        return b""


class MulawWriter:
    """Mu-law at 8 kHz, without a header; pieces join without a seam."""

    def __init__(self, rate: int = 16_000) -> None:
        self._resampler = soxr.ResampleStream(rate, MULAW_RATE, 1, dtype="float32", quality="HQ")

    def write(self, clip: Clip) -> bytes:
        return self._law(clip.samples, last=False)

    def finish(self) -> bytes:
        return self._law(np.zeros(0, np.float32), last=True)

    def _law(self, samples: Samples, *, last: bool) -> bytes:
        made = self._resampler.resample_chunk(samples, last=last)
        return in_law(Clip(np.asarray(made, np.float32), MULAW_RATE), "PCMU")


class WholeWriter:
    """A format that is written when all of it is there."""

    def __init__(self, format: str) -> None:
        self._format = format
        self._parts: list[Clip] = []

    def write(self, clip: Clip) -> bytes:
        self._parts.append(clip)
        return b""

    def finish(self) -> bytes:
        """Raises EmptySound where nothing was written."""
        parts = self._parts or [Clip(np.zeros(0, np.float32), 16_000)]
        return encode(join(parts), self._format)


def writer_of(format: str, serial: int) -> Writer:
    """What writes a format of `MEDIA_TYPES`; flac and mp3 come whole, at the end."""
    match format:
        case "ogg":
            return OggWriter(serial)
        case "wav":
            return WavWriter()
        case "mulaw":
            return MulawWriter()
        case _:
            return WholeWriter(format)


def whole(clip: Clip, format: str, serial: int) -> bytes:
    """A clip in a format of `MEDIA_TYPES`, with its length where the format tells it. Raises
    EmptySound."""
    if format == "mulaw":
        return in_law(at_rate(clip, MULAW_RATE), "PCMU")
    return encode(clip, format, serial=serial)
