"""What is to be written about a turn, together with the next that is written about it.

A transaction costs more than a row: stages that end within moments of each other, a delivery that
was sent and the end of its turn go together. What must be known before something outside is
touched is in the transaction before that.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import insert, update
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.engine import EngineAsked
from fond_echo.store.engines import count_asked
from fond_echo.store.events import emit_all
from fond_echo.store.records import Delivery, Stage, Turn


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
        if self.stages:
            await session.execute(insert(Stage), self.stages)
        if self.on_turn:
            await session.execute(update(Turn).where(Turn.id == turn_id).values(**self.on_turn))
        for delivery_id, changes in self.deliveries:
            changed = update(Delivery).where(Delivery.id == delivery_id).values(**changes)
            await session.execute(changed)
        if self.events:
            await emit_all(session, [(kind, turn_id, data) for kind, data in self.events])
