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
from fond_echo.contract.clip import NewClip
from fond_echo.contract.engine import EngineAsked
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.clips import stored
from fond_echo.store.engines import count_asked
from fond_echo.store.notices import CHANNEL

BLOBS = PostgresBlobs()

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
        UPDATE turns SET (text, route, state, error, finished_at, worker) =
               (SELECT text, route, state, error, finished_at, worker
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
        clips: the id of each, and its sound.
    """

    stages: list[dict[str, Any]] = field(default_factory=list)
    on_turn: dict[str, Any] = field(default_factory=dict)
    deliveries: list[tuple[str, dict[str, Any]]] = field(default_factory=list)
    events: list[tuple[str, dict[str, Any]]] = field(default_factory=list)
    asked: list[EngineAsked] = field(default_factory=list)
    clips: list[tuple[str, NewClip]] = field(default_factory=list)

    def __bool__(self) -> bool:
        return bool(self.stages or self.on_turn or self.deliveries or self.events or self.clips)

    def followed_by(self, later: Pending) -> Pending:
        """Both, in order."""
        return Pending(
            self.stages + later.stages,
            {**self.on_turn, **later.on_turn},
            self.deliveries + later.deliveries,
            self.events + later.events,
            self.asked + later.asked,
            self.clips + later.clips,
        )

    def sounds(self) -> Pending:
        """What must be there before anything else is written that names it, taken out."""
        clips, self.clips = self.clips, []
        return Pending(clips=clips)

    async def write(self, session: AsyncSession, turn_id: str, assistant: str) -> None:
        """All of it, in the session's transaction."""
        await count_asked(session, assistant, self.asked)
        for clip_id, each in self.clips:
            await stored(
                session, BLOBS, each.data, each.media_type, each.origin, turn_id=turn_id,
                clip_id=clip_id, seconds=each.seconds, rate=each.rate, waveform=each.waveform,
            )  # fmt: skip
        if not (self.stages or self.on_turn or self.deliveries or self.events):
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
