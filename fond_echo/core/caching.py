"""What was used lately, kept up to a size; what was not used for longest goes first."""

from __future__ import annotations

from collections.abc import Callable
from threading import RLock
from typing import TypeVar, overload

from cachetools import LRUCache

K = TypeVar("K")
V = TypeVar("V")


class Recent(LRUCache[K, V]):
    """A bounded map. Keeping another value under a key puts it in the place of the one before.

    Args:
        size: of all values together; their number, where nothing says how large one is.
        size_of: a value's size.

    >>> kept = Recent(2)
    >>> for name in "abc":
    ...     kept.keep(name, name.upper())
    >>> sorted(kept)
    ['b', 'c']
    """

    def __init__(self, size: float, size_of: Callable[[V], float] | None = None) -> None:
        super().__init__(size, size_of)
        self._lock = RLock()

    def __getitem__(self, key: K) -> V:
        with self._lock:
            return super().__getitem__(key)

    @overload  # type: ignore[override]
    def get(self, key: K, default: None = None) -> V | None: ...
    @overload
    def get(self, key: K, default: V) -> V: ...
    def get(self, key: K, default: V | None = None) -> V | None:
        """The value under a key, or another where none is kept; threads may ask for it together."""
        with self._lock:
            return super().get(key, default)

    def keep(self, key: K, value: V) -> None:
        """Keep a value, unless it alone is larger than all may be."""
        with self._lock:
            if self.getsizeof(value) > self.maxsize:
                self.pop(key, None)
            else:
                self[key] = value
