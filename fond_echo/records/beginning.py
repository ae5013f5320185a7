"""The beginning of a turn's run: frozen, with what was received as its first stage."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime

from sqlalchemy import bindparam, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.base import new_id
from fond_echo.store.records import Assistant, Contact, Conversation, Run, Turn
from fond_echo.turns.state import ConversationState

_BEGUN = text(
    """
    WITH run AS (
        INSERT INTO runs (id, turn_id, kind, revision, clock, seed, state_before, memory_before)
        VALUES (:id, :turn_id, 'live', :revision, :clock, :seed, :state, :memory)
    ), stage AS (
        INSERT INTO stages
            (id, run_id, name, part, attempt, started_at, seconds, outcome, input, output)
        VALUES (:stage_id, :id, 'receive', 0, 1, :received_at, 0, 'done', '{}', :received)
    )
    UPDATE turns SET run_id = :id, draft = :draft WHERE id = :turn_id
    """
).bindparams(*(bindparam(name, type_=JSONB) for name in ("state", "memory", "received")))
"""A run, with its first stage: what was received; and the turn's mark that a draft answers it."""


async def begin(
    session: AsyncSession,
    turn: Turn,
    conversation: Conversation,
    contact: Contact,
    revision: str,
    *,
    exactly: bool = False,
) -> Run:
    """The live run of a turn, with its first stage: what was received.

    Args:
        revision: the live one, or the draft for a tester; one that the conversation is pinned to
            comes before it.
        exactly: nothing comes before it.
    """
    now, live = datetime.now(UTC), revision
    state = ConversationState.read(conversation.state)
    if not exactly and (named := state.assistant):
        # A call that we placed for another assistant than its channel's.
        other = await session.get_one(Assistant, named)
        live = (contact.tester and other.draft) or other.live or revision
    run = Run(
        id=new_id(),
        turn_id=turn.id,
        kind="live",
        revision=live if exactly else state.pinned(live, now),
        clock=now,
        seed=secrets.randbits(62),
        state_before=conversation.state,
        memory_before=contact.memory,
    )
    await session.execute(
        _BEGUN,
        {
            "id": run.id,
            "turn_id": turn.id,
            "draft": turn.draft if exactly else contact.tester,
            "revision": run.revision,
            "clock": now,
            "seed": run.seed,
            "state": run.state_before,
            "memory": run.memory_before,
            "stage_id": new_id(),
            "received_at": turn.received_at,
            "received": {"arrived_as": turn.arrived_as, "text": turn.text},
        },
    )
    return run
