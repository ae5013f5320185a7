"""What goes wrong on the way: packets that are lost, late, doubled, out of order."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Faults:
    """Shares are 0 to 1 of all packets; times are in milliseconds.

    Attributes:
        lost: never arrive.
        doubled: arrive twice.
        jitter_ms: each is late by up to so much.
        late, late_ms: some are later still.
        reordered: change places with the one after them.
    """

    lost: float = 0.0
    doubled: float = 0.0
    jitter_ms: float = 0.0
    late: float = 0.0
    late_ms: float = 200.0
    reordered: float = 0.0

    @property
    def any(self) -> bool:
        return any((self.lost, self.doubled, self.jitter_ms, self.late, self.reordered))


class FaultyWay:
    """Sends through faults; the same seed gives the same ones.

    Args:
        send: sends a packet for good.
    """

    def __init__(self, faults: Faults, send: Callable[[bytes], None], seed: int = 1) -> None:
        self._faults, self._send = faults, send
        self._chance = random.Random(seed)
        self._held: bytes | None = None
        self.sent = 0
        self.dropped = 0

    def send(self, data: bytes) -> None:
        """Send a packet, or do to it what a bad network does."""
        faults, chance = self._faults, self._chance
        self.sent += 1
        if chance.random() < faults.lost:
            self.dropped += 1
            return
        if self._held is not None:
            held, self._held = self._held, None
            self._deliver(data)
            self._deliver(held)
            return
        if chance.random() < faults.reordered:
            self._held = data
            return
        self._deliver(data)
        if chance.random() < faults.doubled:
            self._deliver(data)

    def _deliver(self, data: bytes) -> None:
        faults, chance = self._faults, self._chance
        wait = chance.uniform(0, faults.jitter_ms)
        if chance.random() < faults.late:
            wait += faults.late_ms
        if wait <= 0:
            self._send(data)
        else:
            asyncio.get_running_loop().call_later(wait / 1_000, self._send, data)
