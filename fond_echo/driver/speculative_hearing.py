"""Hearing a voice note while it is still being packed and measured to be kept."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from datetime import UTC, datetime

import numpy as np

from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import as_int16
from fond_echo.stages.transcribe import LONG_SECONDS
from fond_echo.turns.expected import expected_of
from fond_echo.turns.needs import Needs
from fond_echo.turns.turn import TurnSoFar


def as_kept(clip: Clip) -> Clip:
    """A clip as it is when it is read again: kept sound has 16 bits."""
    return Clip(as_int16(clip.samples).astype(np.float32) / np.float32(32_768), clip.rate)


class EarlyHearing:
    """Begins to hear sound as soon as it is decoded, where hearing costs nothing. What is heard is
    what would be heard of the sound that is kept.

    Args:
        turn: as it is when it is begun.

    Attributes:
        began: when it did, by the calendar and by the clock; None where it did not.
    """

    def __init__(self, turn: Callable[[], TurnSoFar], needs: Needs) -> None:
        self._turn, self._needs = turn, needs
        self._task: asyncio.Task[Heard] | None = None
        self.began: tuple[datetime, float] | None = None

    def begin(self, clip: Clip) -> None:
        """Begin, unless the sound is long or an outside service would hear it."""
        if not self._needs.hears_early or clip.seconds > LONG_SECONDS:
            return
        turn = self._turn()
        self.began = datetime.now(UTC), time.monotonic()
        self._task = asyncio.create_task(
            self._needs.recognizer.transcribe(
                as_kept(clip), expected_of(turn), language=turn.assistant.language, long=False
            )
        )

    async def taken(self) -> Heard | None:
        """What was heard; None where nothing was begun. Raises what the recognizer raised."""
        task, self._task = self._task, None
        return await task if task is not None else None

    def stop(self) -> None:
        """Nobody wants to know any more."""
        if self._task is not None:
            self._task.cancel()
            # What became of it is not wanted either.
            self._task.add_done_callback(lambda task: task.cancelled() or task.exception())
            self._task = None
