"""Words that are said in calls: rendered once, kept by what they are, ready in the call's law."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from fond_echo.core.caching import Recent
from fond_echo.core.telephony.media.g711 import Law

MAX_BYTES = 16 * 2**20
MAX_TEXT = 1_000
"""Characters: longer words are hardly said twice."""

Render = Callable[[str, str, Law, str, tuple[str, ...]], Awaitable[bytes]]
"""Words, a voice, a law, a language and the engines that speak, to bytes of the law."""


class Prompts:
    """Words as bytes of a law, 8,000 a second."""

    def __init__(self, render: Render) -> None:
        self._render = render
        self._kept: Recent[tuple[object, ...], bytes] = Recent(MAX_BYTES, len)

    def ready(
        self, text: str, voice: str, law: Law, language: str = "en", engines: tuple[str, ...] = ()
    ) -> bytes:
        """What is there at once; b"" where it is not."""
        return self._kept.get((text, voice, law, language, engines), b"")

    async def spoken(
        self, text: str, voice: str, law: Law, language: str = "en", engines: tuple[str, ...] = ()
    ) -> bytes:
        """Words as sound. Raises FondEchoError."""
        key = text, voice, law, language, engines
        if (known := self._kept.get(key)) is not None:
            return known
        data = await self._render(text, voice, law, language, engines)
        if len(text) <= MAX_TEXT:
            self._kept.keep(key, data)
        return data
