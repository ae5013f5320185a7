"""Hearing in calls: what is said is read while it is spoken, or already while it is not sure yet
that it was all."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import structlog

from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.telephony.media import g711
from fond_echo.turns.ports import Hearing, LiveHearings, Recognizer

log = structlog.get_logger()


def clip_of(samples: npt.NDArray[np.int16]) -> Clip:
    """What was heard in a call, 8 kHz."""
    return Clip(samples.astype(np.float32) / np.float32(32_768), g711.RATE)


@dataclass(frozen=True)
class Shaped:
    """What was said, as the recognizer takes it, and as it is kept: FLAC."""

    clip: Clip
    data: bytes


def shaped(samples: npt.NDArray[np.int16]) -> Shaped:
    """What was said in a call, 8 kHz, shaped."""
    clip = clip_of(samples)
    return Shaped(at_rate(clip, RATE), encode(clip, "flac"))


class SpeculativeRecognizer:
    """A recognizer that may have read something before it is asked.

    A guess has a number: that of the pause after which it was made. It is used for what was said
    up to that pause, where the same was expected. An outside service is not asked for guesses; one
    that hears while somebody speaks is handed what is said as it comes.

    Attributes:
        recognizer: who reads at last.
    """

    def __init__(self, recognizer: Recognizer) -> None:
        self.recognizer = recognizer
        self._task: asyncio.Task[Heard] | None = None
        self._shaping: asyncio.Task[Shaped] | None = None
        self._of: tuple[int, Expected, str] | None = None
        self._live: Hearing | None = None
        self._asked: list[EngineAsked] = []
        self.pause = 0
        self.used = 0
        """How many guesses were right."""

    def hear(
        self, samples: npt.NDArray[np.int16], live: LiveHearings, expected: Expected, language: str,
        *, begins: bool,
    ) -> None:  # fmt: skip
        """Hand on what is being said to a service that hears it while it is spoken."""
        if begins:
            self.drop()
            self._live = live(expected, language)
        if self._live is not None:
            self._live.feed(clip_of(samples))

    @property
    def words_so_far(self) -> str:
        """What a service hears so far in what is being said; it may still change."""
        return self._live.words if self._live is not None else ""

    def drop(self) -> None:
        """Nobody wants to know what is being said."""
        if self._live is not None:
            self._live.cancel()
            self._live = None

    def asked(self) -> list[EngineAsked]:
        """How services were asked while somebody spoke, since this was called last."""
        found, self._asked = self._asked, []
        return found

    def guess(
        self, samples: npt.NDArray[np.int16], expected: Expected, language: str, pause: int
    ) -> asyncio.Task[Heard] | None:
        """Read what was said so far, once for each pause; None where that would ask an outside
        service."""
        if self._task is not None and self._of == (pause, expected, language):
            return self._task
        if self._task is not None:
            self._task.cancel()
            self._task = None
        if self._shaping is not None:
            self._shaping.cancel()
            self._shaping = None
        outside: Any = getattr(self.recognizer, "outside", False)
        if outside:
            return None
        self._of = pause, expected, language
        self._task = asyncio.create_task(self._read(samples, expected, language))
        self._shaping = asyncio.create_task(self._shape(self._task, samples))
        return self._task

    async def _read(
        self, samples: npt.NDArray[np.int16], expected: Expected, language: str
    ) -> Heard:
        clip = await asyncio.to_thread(lambda: at_rate(clip_of(samples), RATE))
        return await self.recognizer.transcribe(clip, expected, language=language, long=False)

    async def _shape(self, read: asyncio.Task[Heard], samples: npt.NDArray[np.int16]) -> Shaped:
        """After it was read: nothing waits for that."""
        await asyncio.wait([read])
        return await asyncio.to_thread(shaped, samples)

    async def shaped(self) -> Shaped | None:
        """What was guessed, shaped, where it is that which was said up to the pause and something
        was heard in it."""
        task, shaping, of = self._task, self._shaping, self._of
        if task is None or shaping is None or of is None or of[0] != self.pause:
            return None
        await asyncio.wait([task])
        if task.cancelled() or task.exception() or task.result().source == "nothing":
            return None
        return await shaping

    async def transcribe(
        self, clip: Clip, expected: Expected, *, language: str, long: bool
    ) -> Heard:
        """What was heard while it was spoken, or the guess where it is one of the same thing, else
        what the recognizer says."""
        live, self._live = self._live, None
        if live is not None and (found := await self._finished(live, clip)) is not None:
            return found
        task, of = self._task, self._of
        self._task = None
        if task is not None and of == (self.pause, expected, language):
            # That the guess was cancelled is told apart from being cancelled ourselves.
            await asyncio.wait([task])
            try:
                heard = task.result()
            except (FondEchoError, asyncio.CancelledError) as error:
                log.info("a guess came to nothing", reason=str(error))
            else:
                if heard.source != "nothing":
                    self.used += 1
                    return heard
        return await self.recognizer.transcribe(clip, expected, language=language, long=long)

    async def _finished(self, live: Hearing, clip: Clip) -> Heard | None:
        try:
            return await live.finish(clip)
        except FondEchoError as error:
            log.info("what was said is heard again", reason=str(error))
            return None
        finally:
            self._asked += live.asked()
