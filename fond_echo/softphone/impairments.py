"""What goes wrong on the way: packets that are loss, late, duplicated, out of order."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Impairments:
    """Shares are 0 to 1 of all packets; times are in milliseconds.

    Attributes:
        loss: never arrive.
        duplicated: arrive twice.
        jitter_ms: each is late by up to so much.
        late, late_ms: some are later still.
        reordered: change places with the one after them.
    """

    loss: float = 0.0
    duplicated: float = 0.0
    jitter_ms: float = 0.0
    late: float = 0.0
    late_ms: float = 200.0
    reordered: float = 0.0

    @property
    def any(self) -> bool:
        return any((self.loss, self.duplicated, self.jitter_ms, self.late, self.reordered))


class ImpairedPath:
    """Sends through impairments; the same seed gives the same ones.

    Args:
        send: sends a packet for good.
    """

    def __init__(
        self, impairments: Impairments, send: Callable[[bytes], None], seed: int = 1
    ) -> None:
        self._impairments, self._send = impairments, send
        self._chance = random.Random(seed)
        self._held: bytes | None = None
        self.sent = 0
        self.dropped = 0

    def send(self, data: bytes) -> None:
        """Send a packet, or do to it what a bad network does."""
        impairments, chance = self._impairments, self._chance
        self.sent += 1
        if chance.random() < impairments.loss:
            self.dropped += 1
            return
        if self._held is not None:
            held, self._held = self._held, None
            self._deliver(data)
            self._deliver(held)
            return
        if chance.random() < impairments.reordered:
            self._held = data
            return
        self._deliver(data)
        if chance.random() < impairments.duplicated:
            self._deliver(data)

    def _deliver(self, data: bytes) -> None:
        impairments, chance = self._impairments, self._chance
        wait = chance.uniform(0, impairments.jitter_ms)
        if chance.random() < impairments.late:
            wait += impairments.late_ms
        if wait <= 0:
            self._send(data)
        else:
            asyncio.get_running_loop().call_later(wait / 1_000, self._send, data)
