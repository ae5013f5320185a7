"""Sound between our own processes: samples as they are, behind a few facts about them.

A frame is a JSON object and 16-bit samples (little-endian, mono): u32 length of the object, u32
length of the samples in bytes, the object, the samples. Nothing is packed: to encode and decode a
phrase as a file takes longer than to send it over loopback.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Iterator

import numpy as np

from fond_echo.contract.base import JsonObject
from fond_echo.core.audio.clip import Clip
from fond_echo.speech.errors import NotAFrame

MEDIA_TYPE = "application/vnd.fond-echo.sound"
HEAD = struct.Struct("<II")
MAX_FACTS = 8 * 2**20
MAX_SAMPLES = 16 * 2**20
"""Bytes: over two minutes at 48 kHz, four times as much as a unit of work has."""


def frame(facts: JsonObject, clip: Clip) -> bytes:
    """A frame; the clip's rate stands among its facts."""
    text = json.dumps({**facts, "rate": clip.rate}, separators=(",", ":")).encode()
    samples = np.clip(np.rint(clip.samples * 32_767), -32_768, 32_767).astype("<i2").tobytes()
    return HEAD.pack(len(text), len(samples)) + text + samples


class Frames:
    """Frames out of bytes that come in pieces of any size."""

    def __init__(self) -> None:
        self._waiting = bytearray()

    def feed(self, data: bytes) -> Iterator[tuple[JsonObject, Clip]]:
        """The frames that are whole now.

        Raises:
            NotAFrame: these are none.
        """
        self._waiting += data
        while len(self._waiting) >= HEAD.size:
            text_size, samples_size = HEAD.unpack_from(self._waiting)
            if text_size > MAX_FACTS or samples_size > MAX_SAMPLES:
                raise NotAFrame(f"a frame has {text_size:,} and {samples_size:,} bytes")
            start, end = HEAD.size + text_size, HEAD.size + text_size + samples_size
            if len(self._waiting) < end:
                return
            text, samples = bytes(self._waiting[HEAD.size : start]), self._waiting[start:end]
            del self._waiting[:end]
            yield _parsed(text, bytes(samples))

    @property
    def empty(self) -> bool:
        """Whether nothing waits for more."""
        return not self._waiting


def _parsed(text: bytes, samples: bytes) -> tuple[JsonObject, Clip]:
    try:
        facts = json.loads(text)
        rate = int(facts.pop("rate"))
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise NotAFrame("a frame begins with JSON that tells the rate of its sound") from error
    if len(samples) % 2 or not 4_000 <= rate <= 192_000:
        raise NotAFrame(f"{len(samples)} bytes at {rate} Hz are no samples")
    sound = np.frombuffer(samples, "<i2").astype(np.float32) / np.float32(32_767)
    return facts, Clip(sound, rate)


def one_frame(data: bytes) -> tuple[JsonObject, Clip]:
    """The frame that bytes are, with nothing behind it. Raises NotAFrame."""
    frames = Frames()
    found = list(frames.feed(data))
    if len(found) != 1 or not frames.empty:
        raise NotAFrame("these are not the bytes of one frame")
    return found[0]
