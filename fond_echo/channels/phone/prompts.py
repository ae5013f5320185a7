"""Words that are said in calls: rendered once, kept by what they are, ready in the call's law."""

from __future__ import annotations

import zlib
from collections.abc import AsyncIterator, Awaitable, Callable

from fond_echo.core.caching import Recent
from fond_echo.core.language.pls import Sounds
from fond_echo.core.telephony.media.g711 import Law
from fond_echo.speech.remote import SpokenSound
from fond_echo.stages.ports import Synthesizer

MAX_BYTES = 16 * 2**20
MAX_TEXT = 1_000
"""Characters: longer words are hardly said twice."""

Render = Callable[[str, str, Law], Awaitable[bytes]]
"""Words, a voice and a law to bytes of it."""


class Prompts:
    """Words as bytes of a law, 8,000 a second."""

    def __init__(self, render: Render) -> None:
        self._render = render
        self._kept: Recent[tuple[str, str, Law], bytes] = Recent(MAX_BYTES, len)

    def ready(self, text: str, voice: str, law: Law) -> bytes:
        """What is there at once; b"" where it is not."""
        return self._kept.get((text, voice, law), b"")

    async def spoken(self, text: str, voice: str, law: Law) -> bytes:
        """Words as sound. Raises FondEchoError."""
        key = text, voice, law
        if (known := self._kept.get(key)) is not None:
            return known
        data = await self._render(text, voice, law)
        if len(text) <= MAX_TEXT:
            self._kept.keep(key, data)
        return data


class CachedSynthesizer:
    """A synthesizer that says the same words in the same way, and renders them once."""

    def __init__(self, synthesizer: Synthesizer) -> None:
        self._synthesizer = synthesizer
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
        async for part in self._synthesizer.speak(
            text, voice, seed=zlib.crc32(text.encode()), sounds=sounds
        ):
            parts.append(part)
            yield part
        if len(text) <= MAX_TEXT:
            self._kept.keep(key, parts)


def _size(parts: list[SpokenSound]) -> int:
    return sum(part.clip.samples.nbytes for part in parts)
