"""Recording a call: both directions in one stereo file, kept by page while it grows, so that a
crash loses no more than the last second."""

from __future__ import annotations

import asyncio
import secrets
from typing import Any

import numpy as np
import structlog
from sqlalchemy.exc import SQLAlchemyError

from fond_echo.core.audio.errors import EmptySound
from fond_echo.core.audio.voicenote import VoiceNoteWriter
from fond_echo.core.telephony.media.g711 import RATE
from fond_echo.core.telephony.media.jitter import Frame
from fond_echo.store.calls import keep_page
from fond_echo.store.database import AWAY, Database

log = structlog.get_logger()

FRAMES = 25
"""Half a second: so much is encoded, and kept, at a time."""

STEP = 5
"""Frames for a height of the waveform: a tenth of a second."""

BITS_PER_SECOND = 32_000
MEDIA_TYPE = "audio/ogg; codecs=opus"


class CallRecorder:
    """Records one call: left is the other side, right is us.

    Args:
        call: the id of its record.
    """

    def __init__(self, database: Database, call: str) -> None:
        self._database, self._call = database, call
        self._writer = VoiceNoteWriter(
            secrets.randbits(32), bits_per_second=BITS_PER_SECOND, rate=RATE, channel_count=2,
            input_rate=RATE, per_page=FRAMES,
        )  # fmt: skip
        self._left: list[Frame] = []
        self._right: list[Frame] = []
        self._number = 0
        self._heights: tuple[list[float], list[float]] = ([], [])
        self._last: asyncio.Task[None] | None = None

    def add(self, left: Frame, right: Frame) -> None:
        """20 ms of both sides."""
        self._left.append(left)
        self._right.append(right)
        if len(self._left) >= FRAMES:
            self._last = asyncio.create_task(self._keep(self._taken(), self._last))

    def _taken(self) -> np.ndarray[tuple[int, int], np.dtype[np.float32]]:
        for heights, side in zip(self._heights, (self._left, self._right), strict=True):
            peaks = [float(np.abs(each.astype(np.int32)).max()) / 32_768 for each in side]
            heights.extend(
                round(max(peaks[at : at + STEP]), 3) for at in range(0, len(peaks), STEP)
            )
        both = np.stack((np.concatenate(self._left), np.concatenate(self._right)), axis=1)
        self._left, self._right = [], []
        return both.astype(np.float32) / np.float32(32_768)

    async def _keep(
        self,
        samples: np.ndarray[tuple[int, int], np.dtype[np.float32]],
        before: asyncio.Task[None] | None,
    ) -> None:
        if before is not None:
            await before
        await self._store(await asyncio.to_thread(self._writer.write, samples))

    async def _store(self, data: bytes) -> None:
        if not data:
            return
        number, self._number = self._number, self._number + 1
        try:
            async with self._database.writing() as session:
                await keep_page(session, self._call, number, data)
        except (SQLAlchemyError, *AWAY) as error:
            log.warning("a page of a recording is lost", call=self._call, reason=str(error))

    @property
    def waveforms(self) -> dict[str, Any]:
        """How loud both sides were."""
        theirs, ours = self._heights
        return {"per_second": 50 // STEP, "theirs": theirs, "ours": ours}

    async def finish(self) -> None:
        """The call is over: what is left is kept."""
        if self._left:
            self._last = asyncio.create_task(self._keep(self._taken(), self._last))
        if self._last is not None:
            await self._last
        try:
            await self._store(self._writer.finish())
        except EmptySound:
            return
