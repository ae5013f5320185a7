"""The engine of a case: it answers what the case's file says that it answered then."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence

from fond_echo.core.dialogue.free import FreeAnswer, FreeQuestion
from fond_echo.core.dialogue.functions import ROUTE, Wish
from fond_echo.documents.case import EngineAnswer
from fond_echo.stages.errors import NotRun


class RecordedEngine:
    """Answers freely (`AnswererPort`) with kept answers, one after the other.

    Attributes:
        left: how many answers were not asked for.
    """

    def __init__(self, answers: Sequence[EngineAnswer]) -> None:
        self._answers = answers
        self.left = len(answers)

    async def answer(
        self, question: FreeQuestion, heard: Callable[[str], Awaitable[None]] | None = None
    ) -> FreeAnswer:
        """The next answer. Raises NotRun where there is none left."""
        if not self.left:
            raise NotRun(
                f"the case keeps {len(self._answers)} answers of the engine, which was asked once"
                " more",
                remedy="keep what it answers under engine:, or run the case with --ask",
            )
        kept = self._answers[-self.left]
        self.left -= 1
        if kept.route:
            return FreeAnswer("", wishes=(Wish(f"{ROUTE}.{kept.route}", kept.slots),))
        return FreeAnswer(
            kept.text, kept.spoken, then=kept.then, to=kept.to,
            wishes=tuple(Wish(each.name, each.arguments) for each in kept.calls),
        )  # fmt: skip
