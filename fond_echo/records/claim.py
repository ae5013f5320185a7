"""A turn that a worker has claimed, as far as it was recorded."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from fond_echo.contract.channel import ChannelSettings
from fond_echo.core.errors import FondEchoError
from fond_echo.records.pending import Pending
from fond_echo.store.records import Channel, Stage, Turn
from fond_echo.turns.results import result_of
from fond_echo.turns.turn import TurnSoFar


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
    """A turn that this worker has, as far as it was recorded.

    Attributes:
        tried_since: when each stage was first tried.
        resumed: whether its run was begun before.
        passed: whether it is this turn's time to be answered.
        sound_erased: whether its sound was erased before it was claimed.
        crashes: how many processes ended while they carried it.
        asked_once: the questions to business logic that must not be asked again.
        pending: what is to be written next.
        writing: held by whoever writes.
    """

    turn: TurnSoFar
    epoch: int
    channel: Channel
    settings: ChannelSettings
    received_at: datetime
    done: set[str]
    attempts: dict[str, int]
    tried_since: dict[str, datetime]
    failure: Failure | None
    resumed: bool
    passed: bool = False
    sound_erased: bool = False
    crashes: int = 0
    asked_once: set[str] = field(default_factory=set)
    pending: Pending = field(default_factory=Pending)
    writing: asyncio.Lock = field(default_factory=asyncio.Lock)

    @property
    def answers_at_once(self) -> bool:
        """Whether nothing has to be fetched or heard before it is answered."""
        return self.told_only or self.turn.inbound.is_at_hand

    @property
    def told_only(self) -> bool:
        """Whether its answer does not hang on what was said."""
        return bool(self.turn.standing) or self.turn.inbound.arrived_as in ("other", "joined")

    def tell(self, type: str, **data: Any) -> None:
        """An event of the turn, with what is written next."""
        self.pending.events.append(self.event(type, **data))

    def event(self, type: str, **data: Any) -> tuple[str, dict[str, Any]]:
        """An event of the turn: its type and data."""
        about: dict[str, Any] = {
            "channel": self.turn.channel, "conversation": self.turn.conversation_id,
            "number": self.turn.number,
        }  # fmt: skip
        if self.turn.draft:
            about["draft"] = True
        return type, {**about, **data}


def claimed(
    so_far: TurnSoFar, turn: Turn, channel: Channel, rows: Sequence[Stage], *, resumed: bool
) -> Claim:
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
        resumed,
        sound_erased=turn.sound_erased_at is not None,
        crashes=turn.crashes,
    )
