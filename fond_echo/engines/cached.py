"""A synthesizer that says the same words in the same way, and renders them once."""

from __future__ import annotations

import zlib
from collections.abc import AsyncIterator, Callable, Hashable, Mapping

from fond_echo.core.audio.clip import Clip
from fond_echo.core.caching import Recent
from fond_echo.core.language.pls import Sounds
from fond_echo.core.language.prosody import PLAIN, Prosody
from fond_echo.core.synthesis.sound import NO_RECORDINGS, SpokenSound
from fond_echo.turns.ports import Synthesizer

MAX_BYTES = 16 * 2**20
MAX_TEXT = 1_000
"""Characters: longer words are hardly said twice."""


def _size(parts: list[SpokenSound]) -> int:
    return sum(part.clip.samples.nbytes for part in parts)


class SpokenCache(Recent[tuple[Hashable, ...], list[SpokenSound]]):
    """What was spoken lately, by all that makes it sound so; several synthesizers may share it."""

    def __init__(self, size: int = MAX_BYTES) -> None:
        super().__init__(size, _size)


class CachedSynthesizer:
    """A synthesizer in front of another.

    Args:
        kept: what was spoken lately.
        scope: what else decides how something is spoken, such as the assistant and the channel.
        as_wanted: asked when all is spoken: whether it is as it will be the next time too. What
            another engine said in the place of one that failed is not kept.
    """

    def __init__(
        self,
        synthesizer: Synthesizer,
        kept: SpokenCache | None = None,
        scope: Hashable = None,
        as_wanted: Callable[[], bool] = lambda: True,
    ) -> None:
        self._as_wanted = as_wanted
        self._synthesizer, self._scope = synthesizer, scope
        self._kept = SpokenCache() if kept is None else kept

    async def speak(
        self, text: str, voice: str, *, seed: int, sounds: Sounds = (), language: str = "en",
        prosody: Prosody = PLAIN, recordings: Mapping[str, Clip] = NO_RECORDINGS,
    ) -> AsyncIterator[SpokenSound]:  # fmt: skip
        """The parts of it as they come. `seed` follows from the words."""
        key = self._scope, text, voice, sounds, language, prosody
        if not recordings and (known := self._kept.get(key)) is not None:
            for part in known:
                yield part
            return
        parts: list[SpokenSound] = []
        async for part in self._synthesizer.speak(
            text,
            voice,
            seed=zlib.crc32(text.encode("utf-8", "replace")),
            sounds=sounds,
            language=language,
            prosody=prosody,
            recordings=recordings,
        ):
            parts.append(part)
            yield part
        if len(text) <= MAX_TEXT and not recordings and self._as_wanted():
            self._kept.keep(key, parts)
