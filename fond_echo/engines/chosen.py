"""A recognizer and a synthesizer that ask whichever engine is chosen for a language."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass, replace

from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.language.manner import PLAIN, Manner
from fond_echo.core.language.pls import Sounds
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.sound import NO_RECORDINGS, SpokenSound
from fond_echo.engines.registry import Engines, EngineSettings, Wanted


@dataclass(frozen=True)
class ChosenRecognizer:
    """Hears with the engine for what is wanted (`Recognizer`)."""

    engines: Engines[EngineSettings]
    wanted: Wanted

    async def transcribe(
        self, clip: Clip, expected: Expected, *, language: str, long: bool
    ) -> Heard:
        """Raises NoEngine, and what the engine raises."""
        wanted = replace(self.wanted, language=language)
        engine = self.engines.find("transcribe", wanted)[0]
        heard: Heard = await engine.transcribe(clip, expected, language=language, long=long)
        return heard


@dataclass(frozen=True)
class ChosenSynthesizer:
    """Speaks with the engine for what is wanted (`Synthesizer`)."""

    engines: Engines[EngineSettings]
    wanted: Wanted

    async def speak(
        self, text: str, voice: str, *, seed: int, sounds: Sounds = (), language: str = "en",
        manner: Manner = PLAIN, recordings: Mapping[str, Clip] = NO_RECORDINGS,
    ) -> AsyncIterator[SpokenSound]:  # fmt: skip
        """Raises NoEngine, and what the engine raises."""
        wanted = replace(self.wanted, language=language)
        engine = self.engines.find("speak", wanted)[0]
        async for part in engine.speak(
            text,
            voice,
            seed=seed,
            sounds=sounds,
            language=language,
            manner=manner,
            recordings=recordings,
        ):
            yield part
