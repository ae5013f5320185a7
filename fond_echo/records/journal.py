"""The journal of queued turns: claiming, recording, the gate that keeps order, finishing.

Every claim raises the turn's epoch, and every write checks it, so that a worker that was taken
for dead and wakes again cannot write over the one that took its place.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime
from typing import Any

import procrastinate
from sqlalchemy import cast, func, select, update
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.channel import Inbound as Message
from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.turn import StageName
from fond_echo.records.announcing import announce
from fond_echo.records.beginning import begin
from fond_echo.records.claim import Claim, Failure, claimed
from fond_echo.records.fence import Fence
from fond_echo.records.outbox import Outbox
from fond_echo.records.pending import NOW, Pending
from fond_echo.records.statements import AROUND, LEAVE, TAKE, TAKE_FINISHED, WAKE
from fond_echo.store.calls import take_back
from fond_echo.store.database import Database
from fond_echo.store.erasing import UNFINISHED
from fond_echo.store.events import emit
from fond_echo.store.inbound import count_use, take_in_once
from fond_echo.store.queue import WORK_TURN, enqueue
from fond_echo.store.records import (
    Contact,
    Conversation,
    Delivery,
    Revision,
    Run,
    Stage,
    Turn,
)
from fond_echo.turns.closing import Closing
from fond_echo.turns.memory import facts, with_facts
from fond_echo.turns.state import ConversationState
from fond_echo.turns.turn import SpeechVerification, TurnSoFar, assistant_of, known_assistant


class Journal:
    """Reads and writes the records of turns.

    Args:
        worker: the number of this process (`store.liveness`), where its turns outlive it.

    Attributes:
        database: where they are.
        outbox: the records of what turns send.
    """

    def __init__(
        self, database: Database, queue: procrastinate.App, worker: int | None = None
    ) -> None:
        self.database = database
        self._fence = Fence(database, queue)
        self._worker = worker
        self.outbox = Outbox(self._fence)

    async def claim(self, turn_id: str, *, finished: bool = False) -> Claim | None:
        """Take a turn; None where it is finished or gone. One that needs not be heard passes the
        gate with it (see `may_answer`), or is left waiting, which gives None too.

        Args:
            finished: take a finished one instead, and leave its state.
        """
        async with self._fence.database.writing() as session:
            return await self.claim_in(session, turn_id, finished=finished)

    async def claim_in(
        self, session: AsyncSession, turn_id: str, *, finished: bool = False, heard: bool = False
    ) -> Claim | None:
        """The same in a transaction that does more.

        Args:
            heard: hearing it takes no time, so that it passes the gate too where that is open.
        """
        take = TAKE_FINISHED if finished else TAKE
        which: dict[str, Any] = {"turn": turn_id}
        if not finished:
            which["me"] = self._worker
        turn = (await session.execute(take, which)).scalar_one_or_none()
        if turn is None:
            return None
        about = {"turn": turn.id, "run": turn.run_id, "conversation": turn.conversation_id}
        row = (await session.execute(AROUND, about)).one()
        conversation, contact, channel, inbound, live, run = row
        rows: Sequence[Stage] = []
        resumed, draft = run is not None, contact.tester if run is None else turn.draft
        if run is None:
            run = await begin(session, turn, conversation, contact, live)
        else:
            wanted = select(Stage).where(Stage.run_id == run.id).order_by(Stage.started_at)
            rows = (await session.execute(wanted)).scalars().all()
        assistant = known_assistant(run.revision)
        if assistant is None:
            files = (await session.get_one(Revision, run.revision)).files
            assistant = assistant_of(run.revision, files)
        so_far = TurnSoFar(
            id=turn.id,
            run_id=run.id,
            run="live",
            number=turn.number,
            channel=channel.name,
            conversation_id=conversation.id,
            contact_id=contact.id,
            contact_name=contact.name,
            inbound=Message.model_validate(inbound.message),
            assistant=assistant,
            revision=run.revision,
            clock=run.clock,
            seed=run.seed,
            memory=facts(run.memory_before, run.clock),
            state=ConversationState.read(run.state_before),
            standing=turn.standing,
            draft=draft,
        )
        claim = claimed(so_far, turn, channel, rows, resumed=resumed)
        claim.asked_once.update(run.asked_once or ())
        open_ = conversation.answered >= turn.number - 1
        if finished or not (claim.answers_at_once or (heard and open_)):
            return claim
        passed = await self._pass(session, claim, conversation, contact, frozen=not resumed)
        return claim if passed else None

    async def waited_since(self, claim: Claim) -> datetime:
        """Since when the sender waits: since the message came, or since it is tried again."""
        earlier = select(Run.id).where(
            Run.turn_id == claim.turn.id, Run.id != claim.turn.run_id, Run.clock < claim.turn.clock
        )
        async with self._fence.database.reading() as session:
            again = (await session.execute(earlier.limit(1))).first() is not None
        return claim.turn.clock if again else claim.received_at

    def record(
        self,
        claim: Claim,
        stage: StageName,
        started_at: datetime,
        seconds: float,
        *,
        input: dict[str, Any],
        output: dict[str, Any] | None = None,
        failure: Failure | None = None,
        again: bool = False,
        asked: Sequence[EngineAsked] = (),
    ) -> None:
        """Record a stage: done, failed, or to be tried again. It is written with the next
        transaction about the turn.

        Args:
            asked: the engines that it asked; a stage that is done has them in its output.
        """
        if asked and output is None:
            output = {"asked": [each.model_dump(mode="json") for each in asked]}
        claim.pending.asked += asked
        attempt = claim.attempts.get(stage, 0) + 1
        claim.attempts[stage] = attempt
        claim.pending.stages.append(
            {
                "run_id": claim.turn.run_id,
                "name": stage,
                "attempt": attempt,
                "started_at": started_at,
                "seconds": seconds,
                "outcome": "again" if again else "failed" if failure else "done",
                "input": input,
                "output": output or {},
                "error": failure.as_json() if failure else None,
            }
        )
        if not failure:
            claim.pending.on_turn |= _on_the_turn(stage, output or {}, input)
        claim.tell("turn.stage", stage=stage, failed=failure is not None)

    async def note_asked(self, claim: Claim, question: str) -> None:
        """Put down that business logic is about to be asked what must not be asked again.

        Raises:
            StaleWorker: the turn is not ours any more.
        """
        asked = (
            update(Run)
            .where(Run.id == claim.turn.run_id)
            .values(asked_once=Run.asked_once.op("||")(cast([question], JSONB)))
        )
        async with self._fence.writing(claim) as session:
            await session.execute(asked)
        claim.asked_once.add(question)

    async def take_in(self, claim: Claim, message: Message, *, standing: str, cause: str) -> None:
        """Make another turn in a turn's conversation, to be worked as any other; once."""
        await take_in_once(
            self._fence.database, claim.channel.name, claim.settings, message,
            {}, standing=standing, cause=cause,
        )  # fmt: skip

    async def note_verification(self, claim: Claim, found: SpeechVerification) -> None:
        """Put down what was heard in the reply's sound, with the stage that made it."""
        more = {"heard_as": found.model_dump(mode="json")}
        spoken = (
            update(Stage)
            .where(
                Stage.run_id == claim.turn.run_id, Stage.name == "speak", Stage.outcome == "done",
                Stage.erased_at.is_(None),
            )
            .values(output=Stage.output.op("||")(cast(more, JSONB)))
        )  # fmt: skip
        async with self._fence.database.writing() as session:
            await session.execute(spoken)

    async def flush(self, claim: Claim) -> None:
        """Write what was recorded and is not written yet.

        Raises:
            StaleWorker: the turn is not ours any more.
        """
        await self._fence.flush(claim)

    async def may_answer(self, claim: Claim) -> TurnSoFar | None:
        """Pass the gate: the turn, with state and memory as the turns before it left them; None
        where one of those is not finished. Then the turn waits, and who finishes the one before
        enqueues it again."""
        if claim.passed:
            return claim.turn
        async with self._fence.writing(claim) as session:
            locked = (
                select(Conversation, Contact)
                .join(Contact, Contact.id == Conversation.contact_id)
                .where(Conversation.id == claim.turn.conversation_id)
                .with_for_update(of=Conversation)
            )
            conversation, contact = (await session.execute(locked)).one()
            if not await self._pass(session, claim, conversation, contact):
                return None
            return claim.turn

    async def _pass(
        self,
        session: AsyncSession,
        claim: Claim,
        conversation: Conversation,
        contact: Contact,
        *,
        frozen: bool = False,
    ) -> bool:
        """The gate, where the conversation's row is locked.

        Args:
            frozen: its run has begun in this transaction, with what stands there now.
        """
        # A turn that is tried again by hand was passed by those after it long ago.
        if conversation.answered < claim.turn.number - 1:
            waiting = {"state": "waiting", "worker": None}
            await session.execute(update(Turn).where(Turn.id == claim.turn.id).values(waiting))
            return False
        if not frozen:
            freeze = (
                update(Run)
                .where(Run.id == claim.turn.run_id)
                .values(state_before=conversation.state, memory_before=contact.memory)
            )
            await session.execute(freeze)
        claim.passed = True
        claim.turn = replace(
            claim.turn,
            state=ConversationState.read(conversation.state),
            memory=facts(contact.memory, claim.turn.clock),
            answering=conversation.answering,
        )
        return True

    async def defer(self, claim: Claim, seconds: float) -> None:
        """Leave a turn for now: its job comes again after a while."""
        async with self._fence.writing(
            claim, Pending(on_turn={"state": "received", "worker": None})
        ) as session:
            await enqueue(
                self._fence.queue, session, WORK_TURN, after=seconds, turn_id=claim.turn.id
            )

    async def finish(
        self,
        claim: Claim,
        failure: Failure | None,
        closing: Closing,
    ) -> None:
        """Close a turn, keep what it leaves behind, and open the gate for the next."""
        turn = claim.turn
        ended = "failed" if failure else "answered"
        error = failure.as_json() if failure else None
        # None of it may stand there without the rest: a turn that was over, and yet in the way of
        # those after it, would never be taken up again.
        over = {"state": ended, "error": error, "finished_at": NOW, "worker": None}
        own = Pending(on_turn=over)
        async with self._fence.writing(claim, own) as session:
            await self.outbox.settle_asides(session, claim)
            state = await self._left_behind(session, claim, closing)
            # The contact, what it used, the conversation: a message that is taken in locks them in
            # this order too.
            heard = turn.decoded.clip.seconds or 0.0 if turn.decoded else 0.0
            spoken = sum(len(part.text) for part in turn.spoken.parts) if turn.spoken else 0
            if not turn.draft:
                await count_use(session, turn.contact_id, heard, spoken)
            await session.execute(
                LEAVE,
                {
                    "id": turn.conversation_id, "number": turn.number, "state": state,
                    "answering": "operator" if closing.hand_over else None,
                },
            )  # fmt: skip
            if closing.hand_over:
                own.events.append(claim.event("conversation.operator"))
            if closing.announce is not None and turn.run == "live":
                await announce(session, turn, closing.announce)
            await self._wake_following(session, turn.conversation_id, turn.number)
            code = failure.code if failure else ""
            own.events.append(claim.event("turn." + ended, code=code))

    async def give_up(self, turn_id: str, failure: Failure) -> None:
        """End a turn that nothing can carry on, whoever has it: it is failed, and those after it
        are not held up."""
        async with self._fence.database.writing() as session:
            ended = (
                update(Turn)
                .where(Turn.id == turn_id, Turn.state.in_(UNFINISHED))
                .values(
                    state="failed",
                    error=failure.as_json(),
                    epoch=Turn.epoch + 1,
                    worker=None,
                    finished_at=func.now(),
                )
                .returning(Turn.channel, Turn.conversation_id, Turn.number, Turn.draft)
            )
            row = (await session.execute(ended)).one_or_none()
            if row is None:
                return
            await session.execute(
                update(Delivery)
                .where(Delivery.turn_id == turn_id, Delivery.state == "planned")
                .values(state="dropped", settled_at=func.now())
            )
            nothing_left = {"state": None, "answering": None}
            left = {"id": row.conversation_id, "number": row.number, **nothing_left}
            await session.execute(LEAVE, left)
            await self._wake_following(session, row.conversation_id, row.number)
            await emit(
                session, "turn.failed", turn_id, channel=row.channel,
                conversation=row.conversation_id, number=row.number, code=failure.code,
                **({"draft": True} if row.draft else {}),
            )  # fmt: skip

    async def _wake_following(
        self, session: AsyncSession, conversation_id: str, number: int
    ) -> None:
        """Enqueue the turn that waits for this one."""
        await session.execute(WAKE, {"conversation": conversation_id, "number": number + 1})

    async def _left_behind(
        self, session: AsyncSession, claim: Claim, closing: Closing
    ) -> dict[str, Any]:
        """Keep what is to be remembered; gives the conversation's new state."""
        turn = claim.turn
        if closing.undo:
            await take_back(session, turn.conversation_id)
            earlier = (
                select(Run.state_before, Run.memory_before)
                .join(Turn, Turn.run_id == Run.id)
                .where(Turn.conversation_id == turn.conversation_id, Turn.number < turn.number)
                .order_by(Turn.number.desc())
                .limit(1)
            )
            before = (await session.execute(earlier)).first()
            if before is not None:
                contact = await session.get_one(Contact, turn.contact_id, with_for_update=True)
                contact.memory = before.memory_before
                return dict(before.state_before)
        if closing.remember:
            contact = await session.get_one(Contact, turn.contact_id, with_for_update=True)
            for remember, days in closing.remember:
                contact.memory = with_facts(contact.memory, remember, days, turn.clock)
        if closing.opted_out is not None:
            contact = await session.get_one(Contact, turn.contact_id, with_for_update=True)
            contact.opted_out = closing.opted_out
        return closing.state.stored()


def _on_the_turn(stage: StageName, output: dict[str, Any], input: dict[str, Any]) -> dict[str, Any]:
    """What the turn's own row shows of a stage, for lists."""
    if stage == "transcribe" and output:
        return {"text": output["written"]}
    if stage == "route" and output:
        return {"route": output["route"]}
    if stage == "answer" and output and output.get("routed"):
        return {"route": output["routed"]["route"]}
    return {}
