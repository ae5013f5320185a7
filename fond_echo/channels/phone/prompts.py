"""Words that are said in calls: rendered once, kept by what they are, ready in the call's law."""

from __future__ import annotations

import asyncio
import zlib
from collections.abc import AsyncIterator

from fond_echo.core.caching import Recent
from fond_echo.core.language.pls import Sounds
from fond_echo.core.telephony.media.g711 import Law, in_law
from fond_echo.speech.remote import SpokenSound
from fond_echo.stages.ports import Synthesizer

MAX_BYTES = 16 * 2**20
MAX_TEXT = 1_000
"""Characters: longer words are hardly said twice."""


class CachedSynthesizer:
    """A voice that says the same words in the same way, and renders them once."""

    def __init__(self, voice: Synthesizer) -> None:
        self._voice = voice
        self._kept: Recent[tuple[str, str, Sounds], list[SpokenSound]] = Recent(MAX_BYTES, _size)

    async def speak(
        self, text: str, voice: str, *, seed: int, sounds: Sounds = ()
    ) -> AsyncIterator[SpokenSound]:
        """The parts of it as they come. `seed` follows from the words."""
        key = text, voice, sounds
        if (known := self._kept.get(key)) is not None:
            for part in known:
                yield part
            return
        parts: list[SpokenSound] = []
        async for part in self._voice.speak(
            text, voice, seed=zlib.crc32(text.encode()), sounds=sounds
        ):
            parts.append(part)
            yield part
        if len(text) <= MAX_TEXT:
            self._kept.keep(key, parts)


def _size(parts: list[SpokenSound]) -> int:
    return sum(part.clip.samples.nbytes for part in parts)


class Prompts:
    """Words as bytes of a law.

    Attributes:
        voice: what says them, with its cache; turns of calls speak with it too.
    """

    def __init__(self, voice: Synthesizer) -> None:
        self.voice: Synthesizer = CachedSynthesizer(voice)
        self._kept: Recent[tuple[str, str, Law], bytes] = Recent(MAX_BYTES, len)

    def ready(self, text: str, voice: str, law: Law) -> bytes:
        """What is there at once; b"" where it is not."""
        return self._kept.get((text, voice, law), b"")

    async def spoken(self, text: str, voice: str, law: Law) -> bytes:
        """Words, 8,000 bytes a second. Raises what the voice raises."""
        key = text, voice, law
        if (known := self._kept.get(key)) is not None:
            return known
        data = b""
        async for part in self.voice.speak(text, voice, seed=0):
            data += await asyncio.to_thread(in_law, part.clip, law)
        if len(text) <= MAX_TEXT:
            self._kept.keep(key, data)
        return data
