"""A recognizer, a synthesizer and an answerer that ask whichever engines are chosen: those that the
assistant names, in its order, or else the built-in one for the language."""

from __future__ import annotations

import math
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from fond_echo.contract.engine import EngineKind
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.dialogue.free import FreeAnswer, FreeQuestion
from fond_echo.core.language.manner import PLAIN, Manner
from fond_echo.core.language.pls import Sounds
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.sound import NO_RECORDINGS, SpokenSound
from fond_echo.engines.described import Asking, DescribedEngine
from fond_echo.engines.order import EngineOrder, recognizer_of
from fond_echo.engines.registry import Engines, EngineSettings, Wanted

PART_SECONDS = 60.0
"""Each so much of sound gives an engine the time that it has for one question."""


@dataclass(frozen=True)
class ChosenRecognizer:
    """Hears with the engines for what is wanted (`Recognizer`)."""

    engines: Engines[EngineSettings]
    wanted: Wanted
    order: EngineOrder = field(default_factory=EngineOrder)

    async def transcribe(
        self, clip: Clip, expected: Expected, *, language: str, long: bool
    ) -> Heard:
        """Raises NoEngine or AllEnginesFailed, and what the built-in engine raises."""

        async def ask(engine: Any, asking: Asking) -> Heard:
            heard: Heard = await recognizer_of(engine, asking).transcribe(
                clip, expected, language=language, long=long
            )
            return heard

        if "transcribe" in self.order.names:
            parts = math.ceil(max(1.0, clip.seconds / PART_SECONDS))
            return await self.order.first("transcribe", language, ask, parts=parts)
        wanted = replace(self.wanted, language=language)
        return await ask(self.engines.find("transcribe", wanted)[0], Asking())


@dataclass(frozen=True)
class ChosenSynthesizer:
    """Speaks with the engines for what is wanted (`Synthesizer`)."""

    engines: Engines[EngineSettings]
    wanted: Wanted
    order: EngineOrder = field(default_factory=EngineOrder)

    async def speak(
        self, text: str, voice: str, *, seed: int, sounds: Sounds = (), language: str = "en",
        manner: Manner = PLAIN, recordings: Mapping[str, Clip] = NO_RECORDINGS,
    ) -> AsyncIterator[SpokenSound]:  # fmt: skip
        """Raises NoEngine or AllEnginesFailed, and what the built-in engine raises."""
        fields = {"seed": seed, "sounds": sounds, "manner": manner, "recordings": recordings}
        if "speak" in self.order.names:
            parts = self.order.speak(text, voice, language, fields)
        else:
            wanted = replace(self.wanted, language=language)
            engine = self.engines.find("speak", wanted)[0]
            parts = engine.speak(text, voice, language=language, **fields)
        async for part in parts:
            yield part


@dataclass(frozen=True)
class ChosenHelper:
    """Summarizes, translates and draws with the engines that an assistant names (`HelperPort`)."""

    order: EngineOrder

    def can(self, kind: EngineKind) -> bool:
        return bool(self.order.names.get(kind))

    async def summarize(self, text: str, language: str, sentences: int) -> str:
        """Raises AllEnginesFailed."""

        async def ask(engine: DescribedEngine, asking: Asking) -> str:
            return await engine.summarize(text, language, sentences, asking)

        return await self.order.first("summarize", language, ask)

    async def translate(self, text: str, language: str, to: str) -> str:
        """Raises AllEnginesFailed."""

        async def ask(engine: DescribedEngine, asking: Asking) -> str:
            return await engine.translate(text, language, to, asking)

        return await self.order.first("translate", to, ask)

    async def draw(self, text: str, language: str) -> tuple[bytes, str]:
        """Raises AllEnginesFailed."""

        async def ask(engine: DescribedEngine, asking: Asking) -> tuple[bytes, str]:
            picture = await engine.draw(text, language, asking)
            return picture.data, picture.media_type

        return await self.order.first("draw", language, ask)


@dataclass(frozen=True)
class ChosenAnswerer:
    """Answers freely with the engines that an assistant names (`AnswererPort`)."""

    order: EngineOrder

    async def answer(
        self, question: FreeQuestion, heard: Callable[[str], Awaitable[None]] | None = None
    ) -> FreeAnswer:
        """Raises AllEnginesFailed, or AnswerCutShort where sentences were heard before."""
        count = 0

        async def counted(sentence: str) -> None:
            nonlocal count
            count += 1
            if heard is not None:
                await heard(sentence)

        async def ask(engine: DescribedEngine, asking: Asking) -> FreeAnswer:
            return await engine.answer(
                question, asking=asking, heard=counted if heard is not None else None
            )

        return await self.order.first(
            "answer", question.language, ask, begun_already=lambda: count > 0
        )
