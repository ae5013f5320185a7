"""What speaks in calls: the same words are rendered once."""

from __future__ import annotations

import zlib
from collections.abc import AsyncIterator, Mapping

from fond_echo.channels.phone.prompts import MAX_BYTES, MAX_TEXT
from fond_echo.core.audio.clip import Clip
from fond_echo.core.caching import Recent
from fond_echo.core.language.manner import PLAIN, Manner
from fond_echo.core.language.pls import Sounds
from fond_echo.core.synthesis.sound import NO_RECORDINGS, SpokenSound
from fond_echo.stages.ports import Synthesizer


class CachedSynthesizer:
    """A synthesizer that says the same words in the same way, and renders them once."""

    def __init__(self, synthesizer: Synthesizer) -> None:
        self._synthesizer = synthesizer
        self._kept: Recent[tuple[str, str, Sounds, str, Manner], list[SpokenSound]] = Recent(
            MAX_BYTES, _size
        )

    async def speak(
        self, text: str, voice: str, *, seed: int, sounds: Sounds = (), language: str = "en",
        manner: Manner = PLAIN, recordings: Mapping[str, Clip] = NO_RECORDINGS,
    ) -> AsyncIterator[SpokenSound]:  # fmt: skip
        """The parts of it as they come. `seed` follows from the words."""
        key = text, voice, sounds, language, manner
        if not recordings and (known := self._kept.get(key)) is not None:
            for part in known:
                yield part
            return
        parts: list[SpokenSound] = []
        async for part in self._synthesizer.speak(
            text,
            voice,
            seed=zlib.crc32(text.encode()),
            sounds=sounds,
            language=language,
            manner=manner,
            recordings=recordings,
        ):
            parts.append(part)
            yield part
        if len(text) <= MAX_TEXT and not recordings:
            self._kept.keep(key, parts)


def _size(parts: list[SpokenSound]) -> int:
    return sum(part.clip.samples.nbytes for part in parts)
