"""The rest of the service for calls, in the process that has the database."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from typing import Any

from fond_echo.contract.call import CallIn
from fond_echo.core.audio.clip import Clip
from fond_echo.core.telephony.conversation.course import After
from fond_echo.core.telephony.conversation.listening import Frame
from fond_echo.core.telephony.media.g711 import Law, in_law
from fond_echo.documents.phone import read_phone
from fond_echo.phone.backend import CallEnd, CallStart, Placing, Play, Work
from fond_echo.phone.call_log import CallLog
from fond_echo.phone.call_writer import CallWriter
from fond_echo.phone.dependencies import CallDependencies
from fond_echo.phone.opening import prepared
from fond_echo.phone.recording import CallRecorder, PageStore
from fond_echo.phone.turns import CallTurns, warm
from fond_echo.store import calls as records
from fond_echo.store.records import Channel


class ServiceCall:
    """The rest of the service, for one call (`BackendCall`)."""

    def __init__(
        self, needs: CallDependencies, channel: Channel, call_log: CallLog, pages: PageStore,
        start: CallStart, play: Play,
    ) -> None:  # fmt: skip
        self._needs, self._log, self._start = needs, call_log, start
        self._turns = CallTurns(needs, channel, start, call_log, play)
        self._recorder = (
            CallRecorder(needs.encoder, pages, start.record) if start.recorded else None
        )

    async def turn(self, work: Work) -> After | None:
        return await self._turns.turn(work)

    async def guess(self, samples: Frame, pause: int) -> bool:
        return await self._turns.guess(samples, pause)

    def hear(self, samples: Frame, begins: bool) -> None:
        self._turns.hear(samples, begins)

    async def opening(self, law: Law) -> bytes | str:
        """Raises NoOpening where there is nothing to say."""
        assert self._start.order is not None
        what = await prepared(self._start.order.opening, self._needs.client, self._needs.clips)
        return await asyncio.to_thread(in_law, what, law) if isinstance(what, Clip) else what

    def record(self, theirs: Sequence[Frame], ours: Sequence[Frame]) -> None:
        if self._recorder is not None:
            self._recorder.add(theirs, ours)

    def over(self) -> None:
        self._turns.over()

    async def ended(self, end: CallEnd) -> None:
        waveforms = None
        if self._recorder is not None:
            await self._recorder.finish()
            waveforms = self._recorder.waveforms
        await self._log.ended(self._start.record, end, waveforms)


class ServiceBackend:
    """The rest of the service, for the phone channels of a process (`Backend`).

    Attributes:
        channels: by their names; one is put here before it listens.
        is_stalled: never, as seen from its own process.
    """

    is_stalled = False

    def __init__(self, needs: CallDependencies) -> None:
        self._needs = needs
        self.channels: dict[str, Channel] = {}
        self._pages = PageStore(needs.database)
        self._writer = CallWriter(needs.database)
        self._logs: dict[str, CallLog] = {}

    async def stop(self) -> None:
        """Write what is left."""
        await self._writer.stop()

    def log(self, channel: str) -> CallLog:
        """The records of a channel's calls."""
        return self._logs.setdefault(channel, CallLog(self._needs, channel, self._writer))

    def call(self, start: CallStart, play: Play) -> ServiceCall:
        channel = self.channels[start.channel]
        log = self.log(start.channel)
        return ServiceCall(self._needs, channel, log, self._pages, start, play)

    async def rang(self, start: CallStart, number: str) -> None:
        await self.log(start.channel).rang(start, number)

    async def write(
        self, channel: str, record: str, kind: str, at: float | None, data: dict[str, Any],
        **values: Any,
    ) -> None:  # fmt: skip
        if kind == "answered":
            # Who answers is known here, and whoever follows events need not ask.
            known = self.channels[channel]
            numbers = read_phone(known.connector, f"{channel}.yaml").assistants
            assistant = numbers.get(str(data.get("number")), known.assistant)
            data = {**data, "assistant": assistant}
        await self.log(channel).write(record, kind, at, data, **values)

    async def left_behind(self, channel: str) -> list[dict[str, Any]]:
        return await self.log(channel).left_behind()

    async def waiting(self, channel: str) -> tuple[list[str], bool]:
        async with self._needs.database.reading() as session:
            return await records.waiting(session, channel)

    async def due(self, channel: str, most: int, minutes_per_day: int) -> list[Placing]:
        async with self._needs.database.writing() as session:
            if await records.minutes_today(session, channel) >= minutes_per_day:
                return []
            rows = await records.due_calls(session, channel, most)
            return [
                Placing(
                    row.id, row.number, row.caller, CallIn.model_validate(row.order),
                    tuple(row.attempts),
                )
                for row in rows
            ]  # fmt: skip

    async def prompt(
        self, words: str, voice: str, law: Law, language: str, engines: tuple[str, ...]
    ) -> bytes:
        """Raises what the synthesizer raises."""
        data, synthesizer = b"", self._needs.synthesizer
        if engines and self._needs.engine_voice is not None:
            synthesizer = self._needs.engine_voice(engines)
        async for part in synthesizer.speak(words, voice, seed=0, language=language):
            data += await asyncio.to_thread(in_law, part.clip, law)
        return data

    async def warm(self, channel: str, revision: str) -> None:
        await warm(self._needs, self.channels[channel], revision)
