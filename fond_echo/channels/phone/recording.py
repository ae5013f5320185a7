"""Recording a call: both directions in one stereo file, kept by page while it grows, so that a
crash loses no more than the last second."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Sequence
from typing import Any

import numpy as np
import structlog
from sqlalchemy.exc import SQLAlchemyError

from fond_echo.core.audio.errors import EmptySound
from fond_echo.core.audio.voicenote import VoiceNoteWriter
from fond_echo.core.telephony.media.g711 import RATE
from fond_echo.core.telephony.media.jitter import Frame
from fond_echo.store.calls import keep_pages
from fond_echo.store.database import AWAY, Database

log = structlog.get_logger()

FRAMES = 25
"""Half a second: so much is encoded, and kept, at a time."""

TOGETHER_SECONDS = 0.5
"""Pages of all calls are collected for so long."""

STEP = 5
"""Frames for a height of the waveform: a tenth of a second."""

BITS_PER_SECOND = 32_000
MEDIA_TYPE = "audio/ogg; codecs=opus"

Stereo = np.ndarray[tuple[int, int], np.dtype[np.float32]]


class PageStore:
    """Keeps pages of all recordings of a process, many in one transaction."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._pages: list[tuple[str, int, bytes]] = []
        self._flushing: asyncio.Task[None] | None = None

    def add(self, call: str, number: int, data: bytes) -> None:
        """Keep a page soon."""
        self._pages.append((call, number, data))
        if self._flushing is None:
            self._flushing = asyncio.create_task(self._flush())

    async def _flush(self) -> None:
        await asyncio.sleep(TOGETHER_SECONDS)
        self._flushing = None
        await self.flush()

    async def flush(self) -> None:
        """Keep everything that was added."""
        pages, self._pages = self._pages, []
        if not pages:
            return
        try:
            async with self._database.writing() as session:
                await keep_pages(session, pages)
        except (SQLAlchemyError, *AWAY) as error:
            log.warning("pages of recordings are lost", count=len(pages), reason=str(error))


class CallRecorder:
    """Records one call: left is the other side, right is us.

    Args:
        call: the id of its record.
    """

    def __init__(self, pages: PageStore, call: str) -> None:
        self._pages, self._call = pages, call
        self._writer = VoiceNoteWriter(
            secrets.randbits(32), bits_per_second=BITS_PER_SECOND, rate=RATE, channel_count=2,
            input_rate=RATE, per_page=FRAMES,
        )  # fmt: skip
        self._number = 0
        self._heights: tuple[list[float], list[float]] = ([], [])
        self._last: asyncio.Task[None] | None = None

    def add(self, theirs: Sequence[Frame], ours: Sequence[Frame]) -> None:
        """As many frames of 20 ms of each side."""
        self._last = asyncio.create_task(self._keep(list(theirs), list(ours), self._last))

    async def _keep(
        self, theirs: list[Frame], ours: list[Frame], before: asyncio.Task[None] | None
    ) -> None:
        if before is not None:
            await before
        self._store(await asyncio.to_thread(self._encoded, theirs, ours))

    def _encoded(self, theirs: list[Frame], ours: list[Frame]) -> bytes:
        for heights, side in zip(self._heights, (theirs, ours), strict=True):
            peaks = [float(np.abs(each.astype(np.int32)).max()) / 32_768 for each in side]
            heights.extend(
                round(max(peaks[at : at + STEP]), 3) for at in range(0, len(peaks), STEP)
            )
        both: Stereo = np.stack((np.concatenate(theirs), np.concatenate(ours)), axis=1).astype(
            np.float32
        )
        return self._writer.write(both / np.float32(32_768))

    def _store(self, data: bytes) -> None:
        if data:
            self._pages.add(self._call, self._number, data)
            self._number += 1

    @property
    def waveforms(self) -> dict[str, Any]:
        """How loud both sides were."""
        theirs, ours = self._heights
        return {"per_second": 50 // STEP, "theirs": theirs, "ours": ours}

    async def finish(self) -> None:
        """The call is over: what is left is kept."""
        if self._last is not None:
            await self._last
        try:
            self._store(await asyncio.to_thread(self._writer.finish))
        except EmptySound:
            return
        await self._pages.flush()
