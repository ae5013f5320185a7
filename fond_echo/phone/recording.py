"""Recording a call: both directions in one stereo file, kept by page while it grows, so that a
crash loses no more than the last second."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from typing import Any

import structlog
from sqlalchemy.exc import SQLAlchemyError

from fond_echo.core.errors import FondEchoError
from fond_echo.core.telephony.media.jitter import Frame
from fond_echo.phone.encoding import RecordingEncoder
from fond_echo.store.calls import keep_pages
from fond_echo.store.database import AWAY, Database

log = structlog.get_logger()

TOGETHER_SECONDS = 0.5
"""Pages of all calls are collected for so long."""

MEDIA_TYPE = "audio/ogg; codecs=opus"


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

    Attributes:
        waveforms: how loud both sides were, once it is finished.
    """

    def __init__(self, encoder: RecordingEncoder, pages: PageStore, call: str) -> None:
        self._encoder, self._pages, self._call = encoder, pages, call
        self._number = 0
        self._last: asyncio.Task[None] | None = None
        self.waveforms: dict[str, Any] | None = None

    def add(self, theirs: Sequence[Frame], ours: Sequence[Frame]) -> None:
        """As many frames of 20 ms of each side."""
        self._last = asyncio.create_task(self._keep(list(theirs), list(ours), self._last))

    async def _keep(
        self, theirs: list[Frame], ours: list[Frame], before: asyncio.Task[None] | None
    ) -> None:
        if before is not None:
            await before
        try:
            self._store(await self._encoder.encode(self._call, theirs, ours))
        except FondEchoError as error:
            log.warning("a part of a recording is lost", call=self._call, reason=str(error))
        except Exception:
            # What follows is kept all the same.
            log.exception("a part of a recording is lost", call=self._call)

    def _store(self, data: bytes) -> None:
        if data:
            self._pages.add(self._call, self._number, data)
            self._number += 1

    async def finish(self) -> None:
        """The call is over: what is left is kept."""
        if self._last is not None:
            await self._last
        try:
            data, self.waveforms = await self._encoder.finish(self._call)
        except FondEchoError as error:
            log.warning("the end of a recording is lost", call=self._call, reason=str(error))
            return
        self._store(data)
        await self._pages.flush()
