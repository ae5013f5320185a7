"""Leaving alone for a while what failed several times in a row."""

from __future__ import annotations

import time
from dataclasses import dataclass, field

MAX_ALONE = 3_600.0
"""Seconds: a service that asks for a longer rest is asked again all the same."""


@dataclass
class Breaker:
    """Of one service. After `most` failures in a row it is paused for `seconds`; the first
    question after that is a trial."""

    failures: int = 0
    until: float = 0.0

    most, seconds = 5, 20.0

    @property
    def left(self) -> float:
        """For how many seconds it is left alone yet."""
        return self.until - time.monotonic()

    def note(self, good: bool) -> None:
        """Count how it went."""
        self.failures = 0 if good else self.failures + 1
        if self.failures >= self.most:
            self.until = time.monotonic() + self.seconds
            self.failures = self.most - 1

    def leave_alone(self, seconds: float) -> None:
        """As long as the service asked for."""
        self.until = max(self.until, time.monotonic() + min(seconds, MAX_ALONE))


@dataclass
class Breakers:
    """One for each service, in this process."""

    known: dict[str, Breaker] = field(default_factory=dict)

    def of(self, name: str) -> Breaker:
        return self.known.setdefault(name, Breaker())
