"""Who asks too much, or guesses: slowed down, then not heard for a while."""

from __future__ import annotations

from dataclasses import dataclass

from fond_echo.core.caching import Recent

FREE_STRIKES = 3
"""Wrong passwords, and calls that are not let in, that cost nothing but the refusal."""

BLOCKED_AT = 10
BLOCKED_SECONDS = 300.0
FORGOTTEN_SECONDS = 600.0
FIRST_DELAY, MAX_DELAY = 0.5, 4.0

A_SECOND, BURST = 50.0, 200.0
"""Requests that begin something, of one address."""

MAX_KNOWN = 10_000


@dataclass
class _Known:
    strikes: int = 0
    struck_at: float = 0.0
    blocked_until: float = 0.0
    tokens: float = BURST
    seen_at: float = 0.0


class RateLimiter:
    """Remembers addresses, the latest ten thousand of them.

    Attributes:
        dropped: requests that were not heard.
    """

    def __init__(self) -> None:
        self._known: Recent[str, _Known] = Recent(MAX_KNOWN)
        self.dropped = 0

    def _of(self, host: str, now: float) -> _Known:
        known = self._known.get(host)
        if known is None:
            known = self._known[host] = _Known(seen_at=now)
        if known.strikes and now - known.struck_at > FORGOTTEN_SECONDS:
            known.strikes = 0
        return known

    def hears(self, host: str, now: float) -> bool:
        """Whether a request that begins something is taken from an address now."""
        known = self._of(host, now)
        known.tokens = min(BURST, known.tokens + (now - known.seen_at) * A_SECOND)
        known.seen_at = now
        if now < known.blocked_until or known.tokens < 1.0:
            self.dropped += 1
            return False
        known.tokens -= 1.0
        return True

    def strike(self, host: str, now: float) -> float:
        """It guessed wrong; gives how many seconds the refusal waits."""
        known = self._of(host, now)
        known.strikes += 1
        known.struck_at = now
        if known.strikes >= BLOCKED_AT:
            known.blocked_until = now + BLOCKED_SECONDS
            known.strikes = 0
            return 0.0
        over = known.strikes - FREE_STRIKES
        return 0.0 if over <= 0 else min(MAX_DELAY, FIRST_DELAY * 2 ** (over - 1))

    def right(self, host: str) -> None:
        """It proved who it is."""
        known = self._known.get(host)
        if known is not None:
            known.strikes = 0
