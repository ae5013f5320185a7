"""Decoding what strangers send, in a child process with bounded memory, time and samples."""

from __future__ import annotations

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import Decoded, Limits, decode, decode_at
from fond_echo.core.audio.errors import BrokenSound, SoundTooLong
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.errors import Exhausted
from fond_echo.isolation import Isolation

MEMORY = 3 * 2**30
CPU_SECONDS = 240
RATE = 16_000

LIMITS = Limits(size=60 * 2**20, seconds=3 * 3_600.0 + 60.0)

LONG = 4 * 2**20
"""Bytes: a larger file is never held at its own rate."""


class GuardedDecoder:
    """Decodes files to clips at 16 kHz.

    Args:
        limits: of size, length and number of channels.
        memory: bytes of address space for the child.
        cpu_seconds: of processor time; twice that and a minute of waiting.
    """

    def __init__(
        self, limits: Limits = LIMITS, *, memory: int = MEMORY, cpu_seconds: int = CPU_SECONDS
    ) -> None:
        self._limits = limits
        self._isolation = Isolation(memory=memory, cpu_seconds=cpu_seconds)

    def warm(self) -> None:
        """Load the codecs, so that the first file need not wait for them."""
        self._isolation.warm()

    async def decode(self, data: bytes) -> Decoded:
        """Raises a SoundError for anything that is not sound within the limits."""
        if len(data) > self._limits.size:
            what = f"the file has {len(data):,} bytes"
            raise SoundTooLong(what, remedy=f"at most {self._limits.size:,} are read")
        try:
            return await self._isolation.run(_decoded, data, self._limits)
        except Exhausted as error:
            what = f"the file could not be decoded: {error.what}"
            raise BrokenSound(what, remedy="send it in shorter parts") from error


def _decoded(data: bytes, limits: Limits) -> Decoded:
    if len(data) > LONG:
        return decode_at(data, RATE, limits)
    decoded = decode(data, limits)
    clip: Clip = at_rate(decoded.clip, RATE)
    return Decoded(clip, decoded.container, decoded.codec, decoded.channel_count)
