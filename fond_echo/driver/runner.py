"""Carrying one claimed turn through its stages, each recorded as it ends."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from functools import partial

import structlog

from fond_echo.answers.sentences import apology, failed, greeting, said
from fond_echo.contract.base import Schema
from fond_echo.contract.reply import Reply
from fond_echo.contract.turn import StageName
from fond_echo.core.errors import FondEchoError
from fond_echo.core.progress import telling
from fond_echo.driver.errors import RetryLater
from fond_echo.driver.in_flight import ask_once
from fond_echo.driver.reply_sound import ReplySound
from fond_echo.driver.retry import max_pause, passes, pause
from fond_echo.driver.sending import played, send
from fond_echo.driver.side_messages import SideMessages
from fond_echo.driver.speculative_hearing import EarlyHearing
from fond_echo.records.claim import Claim, Failure
from fond_echo.records.errors import StaleWorker
from fond_echo.records.journal import Journal
from fond_echo.records.turn_sounds import SoundsOfTurn
from fond_echo.stages import deliver
from fond_echo.stages.answer import answer
from fond_echo.stages.decode import as_said, decode
from fond_echo.stages.encode import encode
from fond_echo.stages.fetch import fetch
from fond_echo.stages.route import route
from fond_echo.stages.transcribe import transcribe
from fond_echo.store.database import AWAY
from fond_echo.turns.closing import Closing, closing_of
from fond_echo.turns.delivery import PlannedDelivery
from fond_echo.turns.inputs import input_of
from fond_echo.turns.needs import Needs
from fond_echo.turns.ready import (
    AnsweredTurn,
    DecodedTurn,
    FetchedTurn,
    RoutedTurn,
    SpokenTurn,
    ready,
    taking,
)
from fond_echo.turns.turn import (
    Answered,
    Delivered,
    DeliveredPart,
    TurnSoFar,
)

log = structlog.get_logger()

Simple = Callable[[TurnSoFar, Needs], Awaitable[Schema]]


class TurnRunner:
    """Carries one claimed turn; where the process is busy, without what nobody misses."""

    def __init__(self, journal: Journal, claim: Claim, needs: Needs, *, busy: bool) -> None:
        self._busy = busy
        self._journal = journal
        self._claim = claim
        self._needs = replace(
            needs, clips=SoundsOfTurn(claim, needs.clips), once=partial(ask_once, journal, claim)
        )
        self._beside = SideMessages(journal, claim, self._needs)
        self._speaking = ReplySound(journal, claim, self._needs)
        self._early = EarlyHearing(lambda: claim.turn, self._needs)
        self._delivered: list[DeliveredPart] = []
        self._late: list[asyncio.Task[list[Reply]]] = []

    async def carry(self) -> bool:
        """Whether the turn is finished."""
        turn = self._claim.turn
        told_only = self._claim.told_only
        try:
            if turn.standing not in ("refused", "quota") and not self._busy:
                self._beside.indicate()
            if turn.inbound.sound is not None and not told_only:
                await self._hear()
            elif turn.wants_files and not told_only:
                await self._stage("fetch", fetch)
            told_only = told_only or self._claim.turn.says_nothing
            if await self._journal.may_answer(self._claim) is None:
                return False
            if told_only:
                await self._stage("answer", self._set_words, needed=True)
            elif self._claim.turn.answering == "operator":
                # Somebody answers in the console; what was said stands in the log for them.
                await self._journal.finish(self._claim, self._claim.failure, Closing(turn.state))
                return True
            else:
                await self._stage("route", route)
                await self._stage("answer", taking(RoutedTurn, self._answered), needed=True)
            await self._finish()
            return True
        finally:
            self._early.stop()
            self._speaking.stop()
            await self._beside.end()

    async def _hear(self) -> None:
        self._beside.expect_hearing()
        at_hand = self._needs.at_hand
        with telling(self._beside.reached):
            if at_hand is None:
                await self._stage("fetch", fetch)
                taken = partial(decode, use=self._early.begin)
                await self._stage("decode", taking(FetchedTurn, taken))
            else:
                await self._stage("decode", partial(as_said, at_hand))
            decoded = self._claim.turn.decoded
            if decoded is not None and decoded.clip.seconds:
                self._beside.long_sound(decoded.clip.seconds)
            hear = partial(transcribe, early=self._early)
            await self._stage("transcribe", taking(DecodedTurn, hear), began=self._early.began)
        await self._beside.heard()

    async def _set_words(self, turn: TurnSoFar, needs: Needs) -> Answered:
        """Words that do not come from a route: a refusal, a welcome, a greeting."""
        access, quotas = self._claim.settings.access, self._claim.settings.quotas
        words = {
            "refused": (access.refusal, "not-on-the-list"),
            "quota": (quotas.reached, "quota-reached"),
            "welcome": (access.welcome, "welcome"),
        }
        if turn.standing in words:
            own, name = words[turn.standing]
            return Answered(parts=[Reply(text=own) if own else said(turn, name)])
        if turn.standing == "late":
            return Answered(parts=[Reply.model_validate(each) for each in turn.inbound.replies])
        if turn.standing == "operator":
            return Answered(parts=[Reply(text=turn.inbound.text)])
        if turn.inbound.joined:
            return Answered(parts=[greeting(turn)])
        came = turn.fetched.files if turn.fetched is not None else []
        return Answered(parts=[apology(turn, came[0].refused if came else "other")])

    @property
    def late(self) -> list[asyncio.Task[list[Reply]]]:
        """Answers that will come after their time."""
        return self._late

    async def _answered(self, turn: RoutedTurn, needs: Needs) -> Answered:
        """The reply; its first sentences are spoken while the last are being written, where an
        engine gives them one by one."""
        if turn.answers_aloud:
            needs = replace(needs, sentence=self._speaking.sentences(turn, needs))
        parts: list[Reply] = []
        times, begun = list[float](), time.monotonic()
        in_chat = self._claim.channel.kind in ("chat", "adapter")
        if in_chat:
            needs = replace(needs, late=self.late.append)
        self._beside.expect_an_answer()
        try:
            async for part in answer(turn, needs):
                if in_chat and turn.answers_in_writing:
                    self._beside.part_came(len(parts), part)
                parts.append(part)
                times.append(round(time.monotonic() - begun, 3))
        finally:
            early = await self._beside.parts_over()
            await self._beside.answered()
        return Answered(parts=parts, early=early, times=times, **needs.led.taken())

    async def _finish(self) -> None:
        claim = self._claim
        if claim.turn.answers_aloud and claim.turn.answered is not None:
            if claim.turn.answers_in_writing and self._needs.aloud is None:
                await self._send_written()
            await self._stage("speak", taking(AnsweredTurn, self._speaking.speak), alone=True)
            # In a call its parts were played as they came, and stand in the log as they are.
            played = self._needs.aloud is not None
            if claim.turn.spoken is not None and claim.turn.spoken.parts and not played:
                keep = partial(encode, ahead=await self._speaking.encoded())
                await self._stage("encode", taking(SpokenTurn, keep), alone=True)
        failure = await self._deliver()
        await self._beside.take_back()
        await self._journal.finish(claim, claim.failure or failure, closing_of(claim.turn))

    async def _stage(
        self,
        stage: StageName,
        function: Simple,
        *,
        needed: bool = False,
        alone: bool = False,
        began: tuple[datetime, float] | None = None,
    ) -> None:
        """Run a stage unless it is done, or an earlier one failed.

        Args:
            needed: on failure an apology takes the stage's place; it runs after failures too.
            alone: it runs after failures too: an apology is spoken like any reply.
            began: when its work did, where that was in the stage before: by calendar and clock.

        Raises:
            RetryLater: it failed in a way that passes, and there is time.
        """
        claim = self._claim
        if stage in claim.done or (claim.failure and not (needed or alone)):
            return
        started_at, begun = began or (datetime.now(UTC), time.monotonic())
        addition: Schema | None = None
        failure: Failure | None = None
        seconds: float | None = None
        if claim.failure is not None and needed:
            addition = _apologised(claim.turn, claim.failure)
        else:
            try:
                addition = await function(claim.turn, self._needs)
            except (StaleWorker, RetryLater, *AWAY):
                raise
            except Exception as error:
                failure = Failure.of(stage, error)
                if passes(error) and stage != "answer":
                    since = claim.tried_since.get(stage, started_at)
                    seconds = pause(since, most=max_pause(error))
                _log_failure(stage, error, seconds)
        asked = [*self._needs.asked(), *self._needs.called]
        self._needs.called.clear()
        if addition is not None and asked:
            addition = addition.model_copy(update={"asked": asked})
        self._journal.record(
            claim,
            stage,
            started_at,
            time.monotonic() - begun,
            input=input_of(stage, claim.turn),
            output=addition.model_dump(mode="json") if addition else None,
            failure=failure,
            again=seconds is not None,
            asked=asked,
        )
        if seconds is not None:
            raise RetryLater(seconds)
        self._beside.write_soon(at_once=stage == "decode")  # hearing goes on elsewhere
        if addition is not None:
            claim.turn = claim.turn.with_added(stage, addition)
        if failure is not None:
            claim.failure = claim.failure or failure
            if needed:
                await self._stage(stage, function, needed=True)

    _written = 0
    _problem: Failure | None = None

    async def _send_written(self) -> None:
        """What is read goes out before it is spoken: it need not wait for the voice."""
        unspoken = replace(self._claim.turn, spoken=None, encoded=None)
        planned = deliver.plan(ready(unspoken, AnsweredTurn), self._needs.channel.abilities)
        self._delivered, self._problem = await self._send(planned)
        self._written = len(planned)

    async def _send(
        self, planned: Sequence[PlannedDelivery]
    ) -> tuple[list[DeliveredPart], Failure | None]:
        """Write down what goes out, and send it."""
        parts: list[DeliveredPart] = []
        failure: Failure | None = None
        if not planned:
            return parts, failure
        rows, first = await self._journal.outbox.plan(self._claim, planned)
        for row in rows:
            part, problem = await send(
                self._journal, self._claim, row, self._needs, begun=row.id == first
            )
            parts.append(part)
            failure = failure or problem
        return parts, failure

    async def _deliver(self) -> Failure | None:
        claim = self._claim
        if "deliver" in claim.done:
            return None
        started_at, begun = datetime.now(UTC), time.monotonic()
        planned = deliver.plan(ready(claim.turn, AnsweredTurn), self._needs.channel.abilities)
        parts: list[DeliveredPart] = []
        failure: Failure | None = None
        if self._needs.aloud is not None:
            parts, failure = await played(self._journal, claim, planned, self._needs)
            planned = []
        sent, problem = await self._send(planned[self._written :])
        parts, failure = [*self._delivered, *parts, *sent], failure or self._problem or problem
        delivered = Delivered(parts=parts)
        self._journal.record(
            claim,
            "deliver",
            started_at,
            time.monotonic() - begun,
            input=input_of("deliver", claim.turn),
            output=delivered.model_dump(mode="json"),
            failure=failure,
        )
        claim.turn = claim.turn.with_added("deliver", delivered)
        return failure


def _log_failure(stage: str, error: BaseException, seconds: float | None) -> None:
    if isinstance(error, FondEchoError):
        log.info("stage failed", stage=stage, code=error.code, reason=str(error), again_in=seconds)
    else:
        log.error("stage broke", stage=stage, exc_info=error)


def _apologised(turn: TurnSoFar, failure: Failure) -> Answered:
    return Answered(parts=[failed(turn, failure.code)], apology_for=failure.code)
