"""Hearing in calls: what was said is read already while it is not sure yet that it was all."""

from __future__ import annotations

import asyncio

import numpy as np
import numpy.typing as npt
import structlog

from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.telephony.media import g711
from fond_echo.stages.ports import Recognizer

log = structlog.get_logger()


def clip_of(samples: npt.NDArray[np.int16]) -> Clip:
    """What was heard in a call, 8 kHz."""
    return Clip(samples.astype(np.float32) / np.float32(32_768), g711.RATE)


class SpeculativeRecognizer:
    """a recognizer that may have read something before it is asked.

    A guess has a number: that of the pause after which it was made. It is used for what was said
    up to that pause, where the same was expected.
    """

    def __init__(self, recognizer: Recognizer) -> None:
        self._recognizer = recognizer
        self._task: asyncio.Task[Heard] | None = None
        self._of: tuple[int, Expected, str] | None = None
        self.pause = 0
        self.used = 0
        """How many guesses were right."""

    def guess(
        self, samples: npt.NDArray[np.int16], expected: Expected, language: str, pause: int
    ) -> asyncio.Task[Heard]:
        """Read what was said so far."""
        if self._task is not None:
            self._task.cancel()
        self._of = pause, expected, language
        self._task = asyncio.create_task(self._read(samples, expected, language))
        return self._task

    async def _read(
        self, samples: npt.NDArray[np.int16], expected: Expected, language: str
    ) -> Heard:
        clip = await asyncio.to_thread(lambda: at_rate(clip_of(samples), RATE))
        return await self._recognizer.transcribe(clip, expected, language=language, long=False)

    async def transcribe(
        self, clip: Clip, expected: Expected, *, language: str, long: bool
    ) -> Heard:
        """The guess where it is one of the same thing, else what the recognizer says."""
        task, of = self._task, self._of
        self._task = None
        if task is not None and of == (self.pause, expected, language):
            try:
                heard = await task
            except (FondEchoError, asyncio.CancelledError) as error:
                log.info("a guess came to nothing", reason=str(error))
            else:
                if heard.source != "nothing":
                    self.used += 1
                    return heard
        return await self._recognizer.transcribe(clip, expected, language=language, long=long)
