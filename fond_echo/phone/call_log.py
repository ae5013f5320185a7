"""What is written down of calls: each event in the order in which it happened in its call."""

from __future__ import annotations

import asyncio
from contextlib import AbstractAsyncContextManager
from datetime import UTC, datetime
from typing import Any

import structlog
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.phone.announced import tell_who_asked
from fond_echo.phone.backend import CallEnd, CallStart
from fond_echo.phone.call_writer import CallWriter
from fond_echo.phone.dependencies import CallDependencies
from fond_echo.phone.recording import MEDIA_TYPE
from fond_echo.store import calls as records
from fond_echo.store.database import AWAY

log = structlog.get_logger()

FIRST_PAUSE, MAX_PAUSE = 0.5, 10.0
"""Seconds between tries while the database is away."""


class CallLog:
    """The records of one channel's calls."""

    def __init__(self, needs: CallDependencies, channel: str, writer: CallWriter) -> None:
        self._needs, self._channel, self._writer = needs, channel, writer

    def writing(self, record: str) -> AbstractAsyncContextManager[AsyncSession]:
        """A transaction about a call, behind all that was written down of it before."""
        return self._writer.alone(record)

    async def write(
        self, record: str, kind: str, at: float | None, data: dict[str, Any], **values: Any
    ) -> None:
        """Write down what happened in a call, and what is known of it now.

        Args:
            at: seconds from the answer; None before there was one.
        """

        async def write(database: AsyncSession) -> None:
            if values:
                await records.change(database, record, **values)
            await self.happened(database, record, kind, at, data)

        if await self._writer.write(record, kind, write) and values.get("state") == "ended":
            # Nobody was reached: whoever asked for it is told that, too.
            await tell_who_asked(self._needs.database, record)

    async def happened(
        self, database: AsyncSession, record: str, kind: str, at: float | None,
        data: dict[str, Any],
    ) -> None:  # fmt: skip
        """Write down an event in such a transaction."""
        await records.happened(database, record, self._channel, kind, at, data)

    async def rang(self, start: CallStart, number: str) -> None:
        """A call came in."""

        async def write(database: AsyncSession) -> None:
            database.add(
                records.Call(
                    id=start.record, channel=self._channel, direction="in", caller=start.contact,
                    number=number, conversation=start.conversation, state="ringing",
                )
            )  # fmt: skip
            await database.flush()
            about = {"number": number, "caller": start.contact}
            await self.happened(database, start.record, "ringing", None, about)

        await self._writer.write(start.record, "ringing", write)

    async def ended(
        self, record: str, end: CallEnd, waveforms: dict[str, Any] | None = None
    ) -> None:
        """A call is over; its recording becomes one file. Where the database is away, this is
        written down when it is back."""
        pause = FIRST_PAUSE
        while True:
            try:
                return await self._end(record, end, waveforms)
            except AWAY as error:
                log.warning(
                    "a call's end waits for the database", reason=str(error).splitlines()[0]
                )
                await asyncio.sleep(pause)
                pause = min(MAX_PAUSE, 2 * pause)

    async def _end(self, record: str, end: CallEnd, waveforms: dict[str, Any] | None) -> None:
        async with self.writing(record) as database:
            if await records.is_over(database, record):
                # It was written down, though we were not told so.
                return await tell_who_asked(self._needs.database, record)
            clip = await records.bind_recording(database, self._needs.blobs, record, MEDIA_TYPE)
            if clip is not None:
                clip.seconds, clip.rate = end.at, 8_000
                await self.happened(database, record, "recorded", end.at, {"clip": clip.id})
            await self.happened(database, record, "ended", end.at, {**end.about, **end.measured})
            known = {
                **end.about, "state": "ended", "quality": end.measured,
                "ended_at": end.ended_at, "dialog": None, "waveforms": waveforms,
                **end.values,
            }  # fmt: skip
            await records.change(database, record, **known)
        await tell_who_asked(self._needs.database, record)

    async def left_behind(self) -> list[dict[str, Any]]:
        """Calls that were under way when their process stopped are over; gives their dialogs."""
        blobs, dialogs = self._needs.blobs, []
        async with self._needs.database.writing() as database:
            for call in await records.open_calls(database, self._channel):
                if call.dialog is not None:
                    dialogs.append(call.dialog)
                what = {"cause": "lost", "by": "us", "status": 0}
                await records.bind_recording(database, blobs, call.id, MEDIA_TYPE)
                await self.happened(database, call.id, "ended", None, what)
                await records.change(
                    database, call.id, state="ended", cause="lost", by="us", dialog=None,
                    ended_at=datetime.now(UTC),
                )  # fmt: skip
        return dialogs
