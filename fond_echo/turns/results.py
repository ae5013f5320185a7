"""What a stage left behind: the one place in which a stage's record is read.

A stage whose content was erased has a length and an outcome, and no result.
"""

from __future__ import annotations

from fond_echo.contract.base import Schema
from fond_echo.store.records import Stage
from fond_echo.turns.turn import ADDS


def result_of(row: Stage) -> Schema | None:
    """What a stage added to its turn; None where it added nothing, or that was erased."""
    if row.outcome != "done" or row.erased_at is not None:
        return None
    for name, (_, shape) in ADDS.items():
        if name == row.name:
            return shape.model_validate(row.output)
    return None
