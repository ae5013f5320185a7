"""What goes on beside a turn while it is worked: it is shown that somebody types, that it takes a
while, what was heard; and what was recorded is written."""

from __future__ import annotations

import asyncio
import contextlib
from datetime import UTC, datetime
from typing import Any

import structlog

from fond_echo.contract.channel import PleaseWait
from fond_echo.contract.reply import Reply
from fond_echo.core.errors import FondEchoError
from fond_echo.driver.errors import RetryLater
from fond_echo.driver.sending import send
from fond_echo.records.claim import Claim
from fond_echo.records.errors import StaleWorker
from fond_echo.records.journal import Journal
from fond_echo.store.database import AWAY
from fond_echo.turns.needs import Needs
from fond_echo.turns.ports import Outgoing
from fond_echo.turns.turn import DeliveredPart

log = structlog.get_logger()

WRITTEN_AFTER = 0.08
"""Seconds for which a stage's record waits for company."""

HEARD, WAIT_FOR_HEARING, WAIT_FOR_ANSWER, REQUEST, EARLY = -1, -2, -3, -4, -10
"""The parts of deliveries beside the answer: what was heard, that hearing or answering takes a
while, a request that was met and is taken away, and the first of those parts of the answer that go
out before the last is there."""

LONG = 120.0
"""Seconds of sound whose sender is told how long it is."""

HOW_FAR, TOLD_EVERY = -1_000, 15.0
"""The parts of deliveries that say how far hearing has come, and the seconds between two."""

EARLY_AFTER = 1.0
"""Seconds for which a part of the answer waits for the next, which may take its place."""

INDICATED_AFTER = 0.4
"""Seconds in which most texts and voice notes are answered: an indicator would be gone before it is
seen, and it costs as much as half an answer's delivery."""


class SideMessages:
    """Of one claimed turn."""

    def __init__(self, journal: Journal, claim: Claim, needs: Needs) -> None:
        self._journal = journal
        self._claim = claim
        self._needs = needs
        self._tasks: list[asyncio.Task[None]] = []
        self._writer: asyncio.Task[None] | None = None
        self._hearing: asyncio.Task[None] | None = None
        self._answering: asyncio.Task[None] | None = None
        self._writing = False
        self._due = asyncio.Event()
        self._saying: set[int] = set()
        self._said: dict[int, str] = {}
        self._parts: dict[int, asyncio.Task[None]] = {}
        self._going_out: set[int] = set()
        self._early: dict[int, str] = {}
        self._done = 0.0

    async def end(self) -> None:
        """Stop all of it, but for what is being said, which would be in doubt else, and what is
        being written, of which nobody would know whether it was."""
        going_on = {self._writer} if self._writing else set()
        going_on |= (
            {self._hearing}
            if WAIT_FOR_HEARING in self._saying and WAIT_FOR_HEARING not in self._said
            else set()
        )
        going_on |= {self._answering} if WAIT_FOR_ANSWER in self._saying else set()
        going_on |= {self._parts[number] for number in self._going_out}
        for task in self._tasks:
            if task not in going_on:
                task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)

    def write_soon(self, *, at_once: bool = False) -> None:
        """What was recorded is written with whatever is written next, and soon in any case: the
        next stage is not held up by it.

        Args:
            at_once: there is time for it now, while others work for the turn.
        """
        if self._writer is None or self._writer.done():
            self._due = asyncio.Event()
            self._writer = asyncio.create_task(self._write(self._due))
            self._tasks.append(self._writer)
        if at_once:
            self._due.set()

    async def _write(self, due: asyncio.Event) -> None:
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(WRITTEN_AFTER):
                await due.wait()
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
            await asyncio.sleep(INDICATED_AFTER)
            while True:
                await channel.indicate(inbound.conversation, inbound.contact, kind)
                await asyncio.sleep(channel.abilities.indicator_every)
        except FondEchoError as error:
            log.info("indicator not shown", reason=str(error))

    @property
    def _please_wait(self) -> PleaseWait:
        return self._claim.settings.please_wait or self._claim.turn.assistant.please_wait

    def expect_hearing(self) -> None:
        """Tell the sender in writing if a voice note takes long to be heard."""
        if self._please_wait.after and self._needs.aloud is None:
            self._hearing = asyncio.create_task(self._wait_for_hearing())
            self._tasks.append(self._hearing)

    def long_sound(self, seconds: float) -> None:
        """Tell the sender of long sound how long it is, what hearing it costs, and then how far it
        has come, where the network can edit messages."""
        if seconds < LONG or self._hearing is None or WAIT_FOR_HEARING in self._saying:
            return
        self._hearing.cancel()
        self._hearing = asyncio.create_task(self._say_how_far(seconds))
        self._tasks.append(self._hearing)

    def reached(self, done: float, whole: float) -> None:
        """So many seconds of the sound are heard."""
        self._done = done

    async def _say_how_far(self, seconds: float) -> None:
        says, minutes = self._claim.turn.assistant.says, str(round(seconds / 60))
        cost, currency = 0.0, ""
        if self._needs.cost_of_hearing is not None:
            cost, currency = self._needs.cost_of_hearing(seconds)
        words = says.text("long-sound", minutes=minutes)
        if cost:
            words = says.text("long-sound-costs", minutes=minutes, cost=f"{cost:.2f} {currency}")
        await self._say(WAIT_FOR_HEARING, words)
        said = self._said.get(WAIT_FOR_HEARING, "")
        if not said or not self._needs.channel.abilities.can_edit(False):
            return
        number = 0
        while True:
            await asyncio.sleep(TOLD_EVERY)
            if not self._done:
                continue
            number += 1
            done = str(round(self._done / 60))
            words = says.text("heard-so-far", done=done, minutes=minutes)
            await self._aside(HOW_FAR - number, words, "edit", id=said, choices=[])

    async def heard(self) -> None:
        """It was heard: what, where the channel wants that told."""
        if self._hearing is not None and (
            WAIT_FOR_HEARING not in self._saying or WAIT_FOR_HEARING in self._said
        ):
            self._hearing.cancel()
        heard = self._claim.turn.heard
        if self._claim.settings.echo_heard and heard is not None and heard.written:
            await self._aside(HEARD, f"“{heard.written}”")

    async def _wait_for_hearing(self) -> None:
        since = await self._journal.waited_since(self._claim)
        waited = (datetime.now(UTC) - since).total_seconds()
        await asyncio.sleep(max(0.0, self._please_wait.after - waited))
        await self._say(WAIT_FOR_HEARING, self._please_wait_text)

    @property
    def _please_wait_text(self) -> str:
        own = self._claim.turn.assistant.says
        return self._please_wait.text or own.text("please-wait")

    def expect_an_answer(self) -> None:
        """Tell the sender if business logic or an engine takes long: in a call aloud, else in
        writing, unless hearing took long already."""
        if self._please_wait.after:
            self._answering = asyncio.create_task(self._wait_for_answer())
            self._tasks.append(self._answering)

    async def answered(self) -> None:
        """The answer is there: nothing more is said about waiting for it."""
        if self._answering is not None and WAIT_FOR_ANSWER not in self._saying:
            self._answering.cancel()
        if self._answering is not None:
            await asyncio.gather(self._answering, return_exceptions=True)

    async def _wait_for_answer(self) -> None:
        await asyncio.sleep(self._please_wait.after)
        if self._needs.aloud is None:
            if WAIT_FOR_HEARING not in self._saying:
                await self._say(WAIT_FOR_ANSWER, self._please_wait_text)
            return
        own = self._claim.turn.assistant.says.get("please-wait")
        said = self._please_wait
        words = said.spoken or said.text or own.spoken or own.text
        turn = self._claim.turn
        spoken = [
            part.clip
            async for part in self._needs.synthesizer.speak(
                words, turn.assistant.voice, seed=turn.seed, sounds=turn.assistant.pronounced,
                language=turn.assistant.language,
            )
        ]  # fmt: skip
        self._saying.add(WAIT_FOR_ANSWER)
        for clip in spoken:
            await self._needs.aloud(clip)

    async def _say(self, part: int, words: str) -> None:
        self._saying.add(part)
        if row := await self._aside(part, words):
            self._said[part] = row.external_id

    def part_came(self, number: int, reply: Reply) -> None:
        """A part of the answer is there. Where the next one takes its time, it goes out at once, or
        takes the place of the one that it rewrites."""
        if number and reply.rewrites and (before := self._parts.pop(number - 1, None)) is not None:
            if number - 1 not in self._going_out:
                before.cancel()
            else:
                self._parts[number - 1] = before
        self._parts[number] = asyncio.create_task(self._send_early(number, reply))
        self._tasks.append(self._parts[number])

    async def parts_over(self) -> dict[int, str]:
        """All parts are there: the network's ids of those that went out early, by their numbers."""
        for number, task in self._parts.items():
            if number not in self._going_out:
                task.cancel()
        await asyncio.gather(*self._parts.values(), return_exceptions=True)
        return dict(self._early)

    async def _send_early(self, number: int, reply: Reply) -> None:
        await asyncio.sleep(EARLY_AFTER)
        can = self._needs.channel.abilities
        text = reply.written
        if reply.choices or reply.attachments or not 0 < len(text) <= can.text_characters:
            return
        self._going_out.add(number)
        if (before := self._parts.get(number - 1)) is not None:
            await asyncio.gather(before, return_exceptions=True)
        instead = self._early.get(number - 1, "") if reply.rewrites else ""
        if instead and can.can_edit(False):
            row = await self._aside(EARLY - number, text, "edit", id=instead, choices=[])
        else:
            row = await self._aside(EARLY - number, text)
        if row is not None:
            self._early[number] = instead or row.external_id

    async def _aside(
        self, part: int, text: str, kind: str = "text", **extra: Any
    ) -> DeliveredPart | None:
        """A text beside the answer; whether it goes out is not the turn's concern. In a call
        nothing is written."""
        if "text" not in self._needs.channel.abilities.kinds:
            return None
        row, known = await self._journal.outbox.aside(self._claim, part, text, kind, **extra)
        if known:
            sent = row.state == "sent"
            return (
                DeliveredPart(kind=kind, state=row.state, external_id=row.external_id)
                if sent
                else None
            )
        try:
            delivered, failure = await send(self._journal, self._claim, row, self._needs)
        except (RetryLater, FondEchoError) as error:
            log.info("words beside the answer were not sent", reason=str(error))
            return None
        return None if failure else delivered

    async def take_back(self) -> None:
        """Where the network can, take away that it takes a while, once it is over."""
        for task, part in ((self._hearing, WAIT_FOR_HEARING), (self._answering, WAIT_FOR_ANSWER)):
            if task is not None and part in self._saying:
                if part in self._said:
                    task.cancel()  # it was said; only how far it has come goes on
                await asyncio.gather(task, return_exceptions=True)
        if "delete" not in self._needs.channel.abilities.kinds:
            return
        inbound = self._claim.turn.inbound
        gone = {**self._said, **({REQUEST: inbound.removes} if inbound.removes else {})}
        for part, external_id in gone.items():
            key = f"{self._claim.turn.run_id}-beside{-part}-gone"
            away = Outgoing("delete", inbound.conversation, inbound.contact, key, id=external_id)
            try:
                await self._needs.channel.send(away)
            except FondEchoError as error:
                log.info("words beside the answer were not taken back", reason=str(error))
