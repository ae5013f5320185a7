"""A recognizer, a synthesizer and an answerer that ask whichever engines are chosen: those that the
assistant names, in its order, or else the built-in one for the language."""

from __future__ import annotations

import asyncio
import math
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from fond_echo.contract.engine import EngineKind
from fond_echo.contract.reply import AnswerVerdict
from fond_echo.contract.turn import Heard, Reading
from fond_echo.core.audio.clip import Clip
from fond_echo.core.dialogue.free import FreeAnswer, FreeQuestion
from fond_echo.core.language.pls import Sounds
from fond_echo.core.language.prosody import PLAIN, Prosody
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.sound import NO_RECORDINGS, SpokenSound
from fond_echo.engines.built_in import NAME
from fond_echo.engines.described import Asking, DescribedEngine
from fond_echo.engines.live import LiveHearing, recognizer_of
from fond_echo.engines.order import EngineOrder
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
        names = self.order.long if long and self.order.long else ()
        if not names and "transcribe" not in self.order.names:
            return await self._ours(clip, expected, language, long)

        async def ask(engine: Any, asking: Asking) -> Heard:
            heard: Heard = await recognizer_of(engine, asking).transcribe(
                clip, expected, language=language, long=long
            )
            return heard

        parts = math.ceil(max(1.0, clip.seconds / PART_SECONDS))
        theirs = self.order.first("transcribe", language, ask, parts=parts, names=names)
        if long or not self.order.second or not (expected.phrases or expected.network):
            return await theirs
        found = await asyncio.gather(
            theirs, self._ours(clip, expected, language, long), return_exceptions=True
        )
        return _of_two(found, expected, language, self._name())

    async def _ours(self, clip: Clip, expected: Expected, language: str, long: bool) -> Heard:
        wanted = replace(self.wanted, language=language)
        engine = self.engines.find("transcribe", wanted, [NAME])[0] if self.order.second else (
            self.engines.find("transcribe", wanted)[0]
        )  # fmt: skip
        heard: Heard = await engine.transcribe(clip, expected, language=language, long=long)
        return heard

    def _name(self) -> str:
        """Who heard at last."""
        done = [each.engine for each in self.order.asked if each.outcome == "done"]
        return done[-1] if done else ""

    def cost(self, seconds: float) -> tuple[float, str]:
        """What hearing so many seconds costs with the engine that is asked first, and in which
        currency; nothing where that is our own."""
        long = self.order.long if seconds > PART_SECONDS and self.order.long else ()
        names = long or self.order.names.get("transcribe", ())
        one = self.order.connected.get(names[0]) if names else None
        if one is None:
            return 0.0, ""
        price = one.engine.connector.price
        return price.per_minute * seconds / 60 + price.per_call, price.currency

    def live(self, expected: Expected, language: str) -> LiveHearing | None:
        """Begin to hear what is being said, with the first engine where it can."""
        order = replace(self.order, asked=[])
        if (found := order.live(language)) is None:
            return None
        return LiveHearing(*found, order, expected, language)


def _of_two(
    found: Sequence[Heard | BaseException], expected: Expected, language: str, name: str
) -> Heard:
    """The one of two readings that is used: the engine's, unless ours alone is one of what was
    expected. Raises what the engine raised where neither heard anything."""
    theirs, ours = found
    if isinstance(theirs, BaseException):
        if isinstance(ours, BaseException) or ours.source == "nothing":
            raise theirs
        return ours
    if isinstance(ours, BaseException):
        return theirs
    spoken_tokens = language_of(language).writing.spoken_tokens
    phrases = {" ".join(spoken_tokens(phrase)) for phrase in expected.phrases}
    use_ours = ours.source == "expected" and theirs.spoken not in phrases
    readings = [
        Reading(
            engine=engine, text=each.written, confidence=each.confidence,
            expected=each.source == "expected" or each.spoken in phrases, used=used,
        )
        for engine, each, used in ((name, theirs, not use_ours), (NAME, ours, use_ours))
    ]  # fmt: skip
    return (ours if use_ours else theirs).model_copy(update={"readings": readings})


@dataclass(frozen=True)
class ChosenSynthesizer:
    """Speaks with the engines for what is wanted (`Synthesizer`)."""

    engines: Engines[EngineSettings]
    wanted: Wanted
    order: EngineOrder = field(default_factory=EngineOrder)

    async def speak(
        self, text: str, voice: str, *, seed: int, sounds: Sounds = (), language: str = "en",
        prosody: Prosody = PLAIN, recordings: Mapping[str, Clip] = NO_RECORDINGS,
    ) -> AsyncIterator[SpokenSound]:  # fmt: skip
        """Raises NoEngine or AllEnginesFailed, and what the built-in engine raises."""
        fields = {"seed": seed, "sounds": sounds, "prosody": prosody, "recordings": recordings}
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
    """Summarizes, translates, draws and reviews, with the engines that an assistant names
    (`HelperPort`)."""

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

    async def review(
        self, question: str, answer: str, sources: Sequence[str], first: AnswerVerdict,
        language: str, confidence: float,
    ) -> AnswerVerdict:  # fmt: skip
        """Raises AllEnginesFailed."""

        async def ask(engine: DescribedEngine, asking: Asking) -> AnswerVerdict:
            found = await engine.review(
                question, answer, sources, first, language, asking, confidence=confidence
            )
            return found.model_copy(update={"by": engine.connector.engine})

        return await self.order.first("review", language, ask)


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
