"""An engine by connector file as a recognizer or a synthesizer."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Mapping
from dataclasses import dataclass

from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.language.pls import Sounds
from fond_echo.core.language.prosody import PLAIN, Prosody
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.sound import NO_RECORDINGS, SpokenSound
from fond_echo.engines.described import Asking, DescribedEngine


@dataclass(frozen=True)
class DescribedRecognizer:
    """One question to a described engine that hears (`Recognizer`)."""

    engine: DescribedEngine
    asking: Asking

    async def transcribe(
        self, clip: Clip, expected: Expected, *, language: str, long: bool
    ) -> Heard:
        return await self.engine.transcribe(clip, expected, language=language, asking=self.asking)


@dataclass(frozen=True)
class DescribedSynthesizer:
    """One question to a described engine that speaks (`Synthesizer`); markup is read as words."""

    engine: DescribedEngine
    asking: Asking
    plain: Callable[[str], str]

    async def speak(
        self, text: str, voice: str, *, seed: int, sounds: Sounds = (), language: str = "en",
        prosody: Prosody = PLAIN, recordings: Mapping[str, Clip] = NO_RECORDINGS,
    ) -> AsyncIterator[SpokenSound]:  # fmt: skip
        async for part in self.engine.speak(
            self.plain(text), voice, language=language, asking=self.asking
        ):
            yield part
