"""The clock of all calls of a process: each call has its 20 ms, and the calls are spread over them.
It knows how busy it is."""

from __future__ import annotations

import asyncio
import time
from collections import deque
from collections.abc import Callable

import structlog

from fond_echo.background import keep_running

TICK = 0.02
SLOTS = 10
"""A call's packets leave in one of so many slots of 2 ms."""

SLOTS_MEASURED = 500
"""Slots over which the load is taken: a second."""

HISTORY = 15_000
"""Slots of which it is told how late they were: half a minute."""

FULL = 0.7
"""So much of a processor's time may be spent; no more calls are taken then."""

IN_TIME = 0.004
"""Seconds by which nine in ten slots may be late; no more calls are taken before they are in time.
A call that begins makes a few slots late, and should not keep the next one out."""

FEW = 8
"""So few calls are not what keeps a machine busy: one more is always taken beside fewer."""

Beat = Callable[[float, float], None]
Broke = Callable[[str], None]
"""Is told of a member whose beat failed, and which is called no more."""

log = structlog.get_logger()


class Ticker:
    """Calls each of its members every 20 ms with the loop's time and the wall's; time that was lost
    is caught up. A member whose beat fails is called no more; all others go on.

    Attributes:
        failed: how many did.
    """

    def __init__(self, broke: Broke = lambda name: None) -> None:
        self._broke = broke
        self.failed = 0
        self._slots: list[dict[str, Beat]] = [{} for _ in range(SLOTS)]
        self._late: deque[float] = deque(maxlen=SLOTS_MEASURED)
        self._history: deque[float] = deque(maxlen=HISTORY)
        self._used: deque[tuple[float, float]] = deque(maxlen=SLOTS_MEASURED)
        self._task: asyncio.Task[None] | None = None
        self._somebody = asyncio.Event()

    def start(self) -> None:
        self._task = asyncio.create_task(keep_running("the clock of calls", self._run))

    def stop(self) -> None:
        if self._task is not None:
            self._task.cancel()

    def add(self, name: str, beat: Beat) -> None:
        """Begin to call somebody, in the emptiest slot."""
        min(self._slots, key=len)[name] = beat
        self._somebody.set()

    def remove(self, name: str) -> None:
        for slot in self._slots:
            slot.pop(name, None)
        if not any(self._slots):
            self._somebody.clear()

    @property
    def load(self) -> float:
        """The share of a processor's time that this thread took in the last second."""
        if len(self._used) < SLOTS_MEASURED:
            return 0.0
        (began, used), (ended, total) = self._used[0], self._used[-1]
        return (total - used) / max(ended - began, 1e-6)

    @property
    def lateness(self) -> float:
        """Seconds by which slots of the last second were late; one in ten was later."""
        ordered = sorted(self._late)
        return ordered[int(0.9 * (len(ordered) - 1))] if ordered else 0.0

    @property
    def facts(self) -> dict[str, float]:
        """How the last seconds with calls went: calls now, the share of a processor, and by how
        many milliseconds slots were late: 99 and 99.9 % were not later. Empty before there were
        calls."""
        if not self._history:
            return {}
        ordered = sorted(self._history)
        at = [round(1_000 * ordered[int(share * (len(ordered) - 1))], 1) for share in (0.99, 0.999)]
        return {
            "calls": sum(map(len, self._slots)), "load": round(self.load, 2), "late_ms_p99": at[0],
            "late_ms_p999": at[1], "failed": self.failed,
        }  # fmt: skip

    @property
    def full(self) -> bool:
        """Whether one more call would be too many for the others."""
        if sum(map(len, self._slots)) < FEW or len(self._late) < SLOTS_MEASURED:
            return False
        return self.load > FULL or self.lateness > IN_TIME

    async def _run(self) -> None:
        loop = asyncio.get_running_loop()
        due = loop.time()
        number = 0
        while True:
            if not self._somebody.is_set():
                # Without calls there is nothing to do, not even to wake for.
                await self._somebody.wait()
                due = loop.time()
                self._late.clear()
                self._used.clear()
            due += TICK / SLOTS
            number = (number + 1) % SLOTS
            # Also when it is late: what came meanwhile is read before it is played.
            await asyncio.sleep(max(0.0, due - loop.time()))
            now = loop.time()
            if now - due > 1.0:
                due = now
            self._late.append(now - due)
            self._history.append(now - due)
            self._used.append((now, time.thread_time()))
            wall = time.time()
            for name, beat in list(self._slots[number].items()):
                try:
                    beat(now, wall)
                except Exception:
                    log.exception("a call broke; it is ended, the others go on", call=name)
                    self.failed += 1
                    self.remove(name)
                    self._broke(name)
