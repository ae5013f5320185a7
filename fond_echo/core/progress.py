"""How far long work has come, told to whoever wants to know, without passing it through everything
that is in between."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

Told = Callable[[float, float], None]

_told: ContextVar[Told | None] = ContextVar("progress", default=None)


@contextmanager
def telling(told: Told) -> Iterator[None]:
    """While this lasts, `reach` calls a function with how much is done and how much there is."""
    token = _told.set(told)
    try:
        yield
    finally:
        _told.reset(token)


def reach(done: float, whole: float) -> None:
    """So much is done, of so much."""
    if (told := _told.get()) is not None:
        told(done, whole)
