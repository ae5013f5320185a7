"""The queued driver: one job a turn, recorded after every stage.

fetch, decode and transcribe run ahead of earlier turns, unlocked; from route on a turn waits
for those before it in its conversation. A job that finds the gate closed, or something that is
not possible now but soon, ends; nothing is held while it waits.
"""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from datetime import datetime
from typing import Any, Protocol

import structlog
from sqlalchemy.exc import SQLAlchemyError

from fond_echo.core.errors import FondEchoError
from fond_echo.documents.assistant import AssistantFile
from fond_echo.driver.errors import RetryLater
from fond_echo.driver.in_flight import MAX_CRASHES, InFlight, crashed
from fond_echo.driver.late_answers import send_late
from fond_echo.driver.runner import TurnRunner
from fond_echo.driver.sending import send
from fond_echo.driver.speech_verification import verify_speech
from fond_echo.records.claim import Claim, Failure
from fond_echo.records.errors import StaleWorker
from fond_echo.records.journal import Journal
from fond_echo.store.database import AWAY
from fond_echo.store.records import Channel
from fond_echo.turns.needs import Needs

log = structlog.get_logger()

BUSY, BUSY_WITH_TEXTS = 12, 5
"""Turns under way in one process, beyond which answers go first: read marks and indicators, which
cost about as much as they, are left out. A text is answered about when its read mark would come."""


class World(Protocol):
    """Gives a turn what it needs, for its channel."""

    async def needs(
        self, channel: Channel, now: datetime, assistant: AssistantFile | None = None
    ) -> Needs: ...


class QueuedDriver:
    """Works turns, one call of `work` a job."""

    def __init__(self, journal: Journal, world: World) -> None:
        self._journal = journal
        self._world = world
        self.in_flight = InFlight(journal.database)
        self._after: set[asyncio.Task[None]] = set()
        self._count = 0
        self._one = asyncio.Lock()

    async def work(self, turn_id: str) -> None:
        """Carry a turn as far as it goes now. Safe to call again at any time."""
        claim = await self._journal.claim(turn_id)
        if claim is None:
            return
        if claim.crashes >= MAX_CRASHES:
            failure = crashed(claim.crashes)
            if claim.crashes > MAX_CRASHES or claim.turn.answered is not None:
                # Saying so ended a process as well, or the answer does.
                await self._journal.give_up(turn_id, failure)
                return
            claim.failure = claim.failure or failure
        await self.carry(claim)

    async def carry(self, claim: Claim) -> None:
        """The same, of one that is claimed."""
        with structlog.contextvars.bound_contextvars(
            turn=claim.turn.id, channel=claim.channel.name
        ):
            try:
                turn = claim.turn
                needs = await self._world.needs(claim.channel, turn.clock, turn.assistant)
                enough = BUSY_WITH_TEXTS if claim.answers_at_once else BUSY
                runner = TurnRunner(self._journal, claim, needs, busy=self._count >= enough)
                self._count += 1
                try:
                    async with self.in_flight.carrying(claim):
                        finished = await runner.carry()
                finally:
                    self._count -= 1
                    for task in runner.late:
                        self._go_on(send_late(self._journal, claim, task))
                if finished:
                    self._afterwards(claim, needs)
            except RetryLater as later:
                log.info("turn left for a while", seconds=later.seconds)
                await self._journal.defer(claim, later.seconds)
            except StaleWorker:
                log.warning("turn taken by another worker")

    async def give_up(self, turn_id: str, failure: Failure) -> None:
        """End a turn that cannot be carried on: its sender is told, and the turns after it are
        not held up."""
        try:
            claim = await self._journal.claim(turn_id)
            if claim is not None and claim.turn.answered is None:
                claim.failure = claim.failure or failure
                await self.carry(claim)
        except AWAY:
            raise
        except Exception:
            # What keeps it from being carried keeps it from this, too.
            log.exception("no apology could be sent", turn=turn_id)
        await self._journal.give_up(turn_id, failure)

    def _afterwards(self, claim: Claim, needs: Needs) -> None:
        """Hear the reply again, where the assistant wants to know; nothing waits for that."""
        if claim.turn.assistant.verify_speech:
            self._go_on(self._verify(claim, needs))

    def _go_on(self, work: Coroutine[Any, Any, None]) -> None:
        task = asyncio.create_task(work)
        self._after.add(task)
        task.add_done_callback(self._after.discard)

    async def _verify(self, claim: Claim, needs: Needs) -> None:
        async with self._one:
            try:
                if (found := await verify_speech(claim.turn, needs)) is not None:
                    await self._journal.note_verification(claim, found)
            except (FondEchoError, SQLAlchemyError, *AWAY) as error:
                log.warning("a reply was not heard again", reason=str(error).splitlines()[0])

    async def settled(self) -> None:
        """Wait for what goes on after turns."""
        while self._after:
            await asyncio.wait(set(self._after))

    async def decide(self, turn_id: str, delivery_id: str) -> None:
        """Send a delivery that an operator wants sent again."""
        claim = await self._journal.claim(turn_id, finished=True)
        if claim is None:
            return
        needs = await self._world.needs(claim.channel, claim.turn.clock)
        row = await self._journal.outbox.planned(claim, delivery_id)
        if row is not None:
            try:
                await send(self._journal, claim, row, needs)
                await self._journal.flush(claim)
            except RetryLater as later:
                log.info("delivery left for a while", delivery=delivery_id, seconds=later.seconds)
                await self._journal.outbox.later(claim, delivery_id, later.seconds)
            except StaleWorker:
                log.warning("turn taken by another worker")
