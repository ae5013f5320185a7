"""Tries and replays that ask engines for real: within a budget of their own, and counted apart from
what live turns cost."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime

from sqlalchemy import func, select

from fond_echo.contract.engine import EngineAsked
from fond_echo.documents.assistant import AssistantFile
from fond_echo.engines.chosen import ChosenAnswerer, ChosenHelper
from fond_echo.engines.order import EngineOrder
from fond_echo.engines.registry import Wanted
from fond_echo.store.access_records import EngineDay
from fond_echo.store.engines import count_asked
from fond_echo.web.errors import Conflict
from fond_echo.web.service import Service

COUNTED_AS = "tries"
"""Under this name the usage shows what tries and replays of all assistants cost."""


@dataclass
class AskedEngines:
    """The engines of an assistant, asked for a try; `asked` is the record of all of it."""

    order: EngineOrder
    asked: list[EngineAsked] = field(default_factory=list)

    @property
    def answerer(self) -> ChosenAnswerer:
        return ChosenAnswerer(self.order)

    @property
    def helper(self) -> ChosenHelper:
        return ChosenHelper(self.order)

    def taken(self) -> list[EngineAsked]:
        """What was asked since this was called last."""
        found = self.order.taken()
        self.asked += found
        return found


@asynccontextmanager
async def asking(
    service: Service, assistant: AssistantFile, ask: bool
) -> AsyncIterator[AskedEngines | None]:
    """The engines that an assistant names for answers; None where none are to be asked.

    Raises:
        Conflict: tries have cost what they may today.
    """
    if not ask:
        yield None
        return
    await _within_budget(service)
    vault = await service.vault()
    wanted = Wanted(assistant.language, assistant.assistant, purpose="program")
    names = assistant.engines.of()
    order = await service.installation.order(names, vault, wanted, assistant.engines)
    engines = AskedEngines(order)
    try:
        yield engines
    finally:
        engines.taken()
        async with service.database.writing() as session:
            await count_asked(session, COUNTED_AS, engines.asked)


async def _within_budget(service: Service) -> None:
    most = service.settings.try_budget
    async with service.database.reading() as session:
        today = datetime.now(UTC).date()
        wanted = select(func.coalesce(func.sum(EngineDay.cost), 0.0)).where(
            EngineDay.assistant == COUNTED_AS, EngineDay.day == today
        )
        spent = float((await session.execute(wanted)).scalar_one())
    if spent >= most:
        raise Conflict(
            f"tries have cost {spent:.2f} today, and may cost {most:.2f}",
            remedy="raise FOND_ECHO_TRY_BUDGET, or try without asking engines",
        )
