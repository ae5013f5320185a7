"""Who tries keys: after so many wrong ones an address waits, but for keys that were right."""

from __future__ import annotations

import time

from cachetools import TTLCache

from fond_echo.store.keys import hashed
from fond_echo.web.errors import TooManyTries

MAX_WRONG = 10
FORGOTTEN_SECONDS = 60.0
MAX_ADDRESSES = 10_000
KNOWN_SECONDS = 600.0


class Tries:
    """Wrong keys of the last minute, by the address that they came from."""

    def __init__(self) -> None:
        self._wrong: TTLCache[str, int] = TTLCache(MAX_ADDRESSES, FORGOTTEN_SECONDS, time.monotonic)

    def check(self, address: str) -> None:
        """Raises TooManyTries."""
        if self._wrong.get(address, 0) >= MAX_WRONG:
            raise TooManyTries(
                f"{MAX_WRONG} wrong keys came from {address}", remedy="try again in a minute"
            )

    def wrong(self, address: str) -> None:
        """Another wrong key."""
        self._wrong[address] = self._wrong.get(address, 0) + 1


class KnownKeys:
    """Keys that were right within the last minutes, by their hashes: whoever shows one is not held
    up by others behind the same address."""

    def __init__(self) -> None:
        self._known: TTLCache[str, bool] = TTLCache(MAX_ADDRESSES, KNOWN_SECONDS, time.monotonic)

    def __contains__(self, key: str) -> bool:
        return hashed(key) in self._known

    def add(self, key: str) -> None:
        self._known[hashed(key)] = True
