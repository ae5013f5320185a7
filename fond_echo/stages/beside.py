"""What goes on beside a turn while it is worked: it is shown that somebody types, that it takes a
while, what was heard; and what was recorded is written."""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime

import structlog

from fond_echo.core.errors import FondEchoError
from fond_echo.stages.claim import Claim, StaleWorker
from fond_echo.stages.journal import Journal
from fond_echo.stages.later import Later
from fond_echo.stages.ports import Needs, Outgoing
from fond_echo.stages.sending import send
from fond_echo.stages.turn import DeliveredPart
from fond_echo.store.database import AWAY

log = structlog.get_logger()

WRITTEN_AFTER = 0.02
"""Seconds for which a stage's record waits for company."""

HEARD, SLOW = -1, -2
"""The parts of deliveries beside the answer: what was heard, and that it takes a while."""


class Beside:
    """Of one claimed turn."""

    def __init__(self, journal: Journal, claim: Claim, needs: Needs) -> None:
        self._journal = journal
        self._claim = claim
        self._needs = needs
        self._tasks: list[asyncio.Task[None]] = []
        self._writer: asyncio.Task[None] | None = None
        self._slow: asyncio.Task[None] | None = None
        self._saying = self._writing = False
        self._slow_id = ""

    async def end(self) -> None:
        """Stop all of it, but for what is being said, which would be in doubt else, and what is
        being written, of which nobody would know whether it was."""
        for task in self._tasks:
            going_on = self._saying if task is self._slow else self._writing
            if task not in (self._slow, self._writer) or not going_on:
                task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)

    def write_soon(self) -> None:
        """What was recorded is written with whatever is written next, and soon in any case: the
        next stage is not held up by it."""
        if self._writer is None or self._writer.done():
            self._writer = asyncio.create_task(self._write())
            self._tasks.append(self._writer)

    async def _write(self) -> None:
        await asyncio.sleep(WRITTEN_AFTER)
        self._writing = True
        try:
            await self._journal.flush(self._claim)
        except (StaleWorker, *AWAY) as error:
            log.info("stages not written yet", reason=str(error).splitlines()[0])
        finally:
            self._writing = False

    def indicate(self) -> None:
        """Show that the message was read, and that an answer is on its way."""
        self._tasks.append(asyncio.create_task(self._indicate()))

    async def _indicate(self) -> None:
        kind = "recording" if self._claim.turn.answers_aloud else "typing"
        inbound = self._claim.turn.inbound
        channel = self._needs.channel
        try:
            await channel.mark_read(inbound.conversation, inbound.contact, inbound.id)
            await channel.indicate(inbound.conversation, inbound.contact, kind)
        except FondEchoError as error:
            log.info("indicator not shown", reason=str(error))

    def expect_slowness(self) -> None:
        """Tell the sender if hearing takes long, where the channel wants that."""
        if self._claim.settings.slow_seconds:
            self._slow = asyncio.create_task(self._say_slow())
            self._tasks.append(self._slow)

    async def heard(self) -> None:
        """It was heard: what, where the channel wants that told."""
        if self._slow is not None and not self._saying:
            self._slow.cancel()
        heard = self._claim.turn.heard
        if self._claim.settings.echo_heard and heard is not None and heard.written:
            await self._aside(HEARD, f"“{heard.written}”")

    async def _say_slow(self) -> None:
        """After a while, tell the sender that it takes one."""
        since = await self._journal.waited_since(self._claim)
        waited = (datetime.now(UTC) - since).total_seconds()
        await asyncio.sleep(max(0.0, self._claim.settings.slow_seconds - waited))
        self._saying = True
        words = self._claim.settings.slow_words or self._claim.turn.assistant.says.text("slow")
        row = await self._aside(SLOW, words)
        self._slow_id = row.external_id if row is not None else ""

    async def _aside(self, part: int, text: str) -> DeliveredPart | None:
        """A text beside the answer; whether it goes out is not the turn's concern. In a call
        nothing is written."""
        if "text" not in self._needs.channel.abilities.kinds:
            return None
        row = await self._journal.outbox.aside(self._claim, part, text)
        if row is None:
            return None
        try:
            delivered, _ = await send(self._journal, self._claim, row, self._needs)
        except (Later, FondEchoError) as error:
            log.info("words beside the answer were not sent", reason=str(error))
            return None
        return delivered

    async def take_back(self) -> None:
        """Where the network can, take away that it takes a while, once it is over."""
        if self._slow is not None and self._saying:
            await asyncio.gather(self._slow, return_exceptions=True)
        if not self._slow_id or "delete" not in self._needs.channel.abilities.kinds:
            return
        inbound = self._claim.turn.inbound
        key = f"{self._claim.turn.run_id}-beside{-SLOW}-gone"
        gone = Outgoing("delete", inbound.conversation, inbound.contact, key, id=self._slow_id)
        try:
            await self._needs.channel.send(gone)
        except FondEchoError as error:
            log.info("words beside the answer were not taken back", reason=str(error))
