"""A turn that a worker has claimed, as far as it was recorded."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fond_echo.contract.channel import ChannelSettings
from fond_echo.core.errors import FondEchoError
from fond_echo.stages.results import result_of
from fond_echo.stages.turn import TurnSoFar
from fond_echo.store.records import Channel, Stage, Turn


class StaleWorker(FondEchoError):
    """Another worker has taken the turn; this one must stop."""

    code = "worker-stale"


@dataclass(frozen=True)
class Failure:
    """An error as it is recorded: which stage, which kind, what was wrong."""

    stage: str
    code: str
    what: str
    remedy: str = ""

    @classmethod
    def of(cls, stage: str, error: BaseException) -> Failure:
        if isinstance(error, FondEchoError):
            what = f"{error.where}: {error.what}" if error.where else error.what
            return cls(stage, error.code, what, error.remedy)
        return cls(stage, "internal", f"{type(error).__name__}: {error}")

    def as_json(self) -> dict[str, str]:
        return {"stage": self.stage, "code": self.code, "what": self.what, "remedy": self.remedy}


@dataclass
class Claim:
    """A turn that this worker has, as far as it was recorded. `tried_since` is when each stage was
    first tried."""

    turn: TurnSoFar
    epoch: int
    channel: Channel
    settings: ChannelSettings
    received_at: datetime
    done: set[str]
    attempts: dict[str, int]
    tried_since: dict[str, datetime]
    failure: Failure | None


def claimed(so_far: TurnSoFar, turn: Turn, channel: Channel, rows: Sequence[Stage]) -> Claim:
    """The claim on a turn, with what its stages added so far."""
    done: set[str] = set()
    attempts: dict[str, int] = {}
    tried_since: dict[str, datetime] = {}
    failures: dict[str, Failure] = {}
    for row in rows:
        attempts[row.name] = max(attempts.get(row.name, 0), row.attempt)
        tried_since.setdefault(row.name, row.started_at)
        if row.outcome == "done":
            done.add(row.name)
            addition = result_of(row)
            if addition is not None:
                name: Any = row.name
                so_far = so_far.with_added(name, addition)
        elif row.outcome == "failed" and row.error:
            failures[row.name] = Failure(**row.error)
    failure = next(iter(failures.values()), None)
    settings = ChannelSettings.model_validate(channel.settings)
    return Claim(
        so_far,
        turn.epoch,
        channel,
        settings,
        turn.received_at,
        done,
        attempts,
        tried_since,
        failure,
    )
