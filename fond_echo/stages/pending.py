"""What is to be written about a turn, together with the next that is written about it.

A transaction costs more than a row: stages that end within moments of each other, a delivery that
was sent and the end of its turn go together. What must be known before something outside is
touched is in the transaction before that.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from pydantic_core import to_jsonable_python
from sqlalchemy import bindparam, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.base import new_id
from fond_echo.contract.engine import EngineAsked
from fond_echo.store.engines import count_asked
from fond_echo.store.notices import CHANNEL

NOW = "now"
"""In place of a time: that of the transaction, as the database reads the word."""

_WRITE = text(
    f"""
    WITH given AS MATERIALIZED (SELECT CAST(:given AS jsonb) AS all_of_it),
    staged AS (
        INSERT INTO stages
            (id, run_id, name, part, attempt, started_at, seconds, outcome, input, output, error)
        SELECT id, run_id, name, part, attempt, started_at, seconds, outcome, input, output, error
          FROM given, jsonb_populate_recordset(NULL::stages, all_of_it->'stages')),
    turned AS (
        UPDATE turns SET (text, route, state, error, finished_at) =
               (SELECT text, route, state, error, finished_at
                  FROM jsonb_populate_record(turns, all_of_it->'turn'))
          FROM given WHERE turns.id = :turn_id AND all_of_it->'turn' <> '{{}}'),
    delivered AS (
        UPDATE deliveries SET (state, attempts, external_id, exchanges, error, settled_at) =
               (SELECT state, attempts, external_id, exchanges, error, settled_at
                  FROM jsonb_populate_record(deliveries, change->'changes'))
          FROM given, jsonb_array_elements(all_of_it->'deliveries') AS change
         WHERE deliveries.id = change->>'id'),
    happened AS (
        INSERT INTO events (type, subject, data)
        SELECT event->>0, event->>1, event->2
          FROM given,
               jsonb_array_elements(all_of_it->'events') WITH ORDINALITY AS one (event, place)
         ORDER BY place
        RETURNING type, subject)
    SELECT pg_notify('{CHANNEL}', type || ' ' || subject) FROM happened
    """
).bindparams(bindparam("given", type_=JSONB))
"""Everything in one statement: each costs as much as its rows. What is not among a row's changes
stays as it is."""


@dataclass
class Pending:
    """Changes that wait.

    Attributes:
        stages: rows.
        on_turn: what changes in the turn's own row.
        deliveries: the id of each, and what changes in it.
        events: type and data of each.
        asked: engines, to be counted.
    """

    stages: list[dict[str, Any]] = field(default_factory=list)
    on_turn: dict[str, Any] = field(default_factory=dict)
    deliveries: list[tuple[str, dict[str, Any]]] = field(default_factory=list)
    events: list[tuple[str, dict[str, Any]]] = field(default_factory=list)
    asked: list[EngineAsked] = field(default_factory=list)

    def __bool__(self) -> bool:
        return bool(self.stages or self.on_turn or self.deliveries or self.events)

    def followed_by(self, later: Pending) -> Pending:
        """Both, in order."""
        return Pending(
            self.stages + later.stages,
            {**self.on_turn, **later.on_turn},
            self.deliveries + later.deliveries,
            self.events + later.events,
            self.asked + later.asked,
        )

    async def write(self, session: AsyncSession, turn_id: str, assistant: str) -> None:
        """All of it, in the session's transaction."""
        await count_asked(session, assistant, self.asked)
        if not self:
            return
        # One row is written once in a statement, whatever happened to it meanwhile.
        deliveries: dict[str, dict[str, Any]] = {}
        for delivery_id, changes in self.deliveries:
            deliveries.setdefault(delivery_id, {}).update(changes)
        given = {
            "stages": [{"id": new_id(), "part": 0, **each} for each in self.stages],
            "turn": self.on_turn,
            "deliveries": [{"id": id, "changes": each} for id, each in deliveries.items()],
            "events": [[kind, turn_id, data] for kind, data in self.events],
        }
        await session.execute(_WRITE, {"turn_id": turn_id, "given": to_jsonable_python(given)})
