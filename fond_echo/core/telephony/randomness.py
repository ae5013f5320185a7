"""Randomness that is handed in."""

from __future__ import annotations

from typing import Protocol


class RandomSource(Protocol):
    """Where random numbers come from: `random.SystemRandom()` where nobody may guess them, and one
    with a seed in tests."""

    def getrandbits(self, k: int, /) -> int: ...

    def uniform(self, a: float, b: float) -> float: ...


def token(chance: RandomSource) -> str:
    """A name that nobody guesses: 64 bits in hexadecimal figures."""
    return f"{chance.getrandbits(64):016x}"
