"""What bounds a template while it is rendered: a budget of steps and time, and sizes of values."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator, Mapping
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Any

from fond_echo.core.language.errors import TemplateFailed

MAX_OUTPUT = 100_000
MAX_STEPS = 20_000
MAX_SECONDS = 0.5
MAX_DEPTH = 50
"""Lists and mappings within each other."""
MAX_NUMBER = 10**15
MAX_DIGITS = 15


@dataclass
class Budget:
    deadline: float
    """Of the thread's own processor time: a busy machine ends nobody's template."""
    steps: int = 0

    def spend(self, steps: int = 1) -> None:
        self.steps += steps
        if self.steps > MAX_STEPS:
            raise TemplateFailed(f"the template takes more than {MAX_STEPS:,} steps")
        if time.thread_time() > self.deadline:
            raise TemplateFailed(f"the template takes longer than {MAX_SECONDS} s")


budget: ContextVar[Budget] = ContextVar("template_budget")


def counted(values: Iterable[Any]) -> Iterator[Any]:
    spent = budget.get()
    for value in values:
        spent.spend()
        yield value


TOO_LARGE = f"a value grows over {MAX_OUTPUT:,} characters or items"


def sized(value: Any) -> Any:
    if isinstance(value, (str, bytes)) and len(value) > MAX_OUTPUT:
        raise TemplateFailed(TOO_LARGE)
    return value


def written_size(value: Any, left: int = MAX_OUTPUT, depth: int = 0) -> int:
    """About how many characters a value takes when it is written, with all that is in it: known
    before it is written. Raises TemplateFailed where it is too many, or nested too deeply."""
    size = 2
    if depth > MAX_DEPTH:
        raise TemplateFailed(f"a value is nested more than {MAX_DEPTH} deep")
    if isinstance(value, str):
        size += len(value)
    elif value is None or isinstance(value, (int, float)):
        pass  # before the rest: to ask whether something is a Mapping takes long
    elif isinstance(value, CONTAINERS):
        for each in value:
            size += written_size(each, left - size, depth + 1)
    elif isinstance(value, Mapping):
        for key, each in value.items():
            size += written_size(key, left - size, depth + 1)
            size += written_size(each, left - size, depth + 1)
    if size > left:
        raise TemplateFailed(TOO_LARGE)
    return size


CONTAINERS = (list, tuple, set, frozenset)


def made(value: Any) -> Any:
    """Something that a template has made: one more step, and small when it is written out."""
    budget.get().spend()
    return measured(value)


def asked(value: Any) -> Any:
    """A value that is about to be compared, hashed or cut: one more step."""
    budget.get().spend()
    return value


def measured(value: Any) -> Any:
    """A value that is about to be written."""
    if isinstance(value, (*CONTAINERS, Mapping)):
        written_size(value)
        return value
    return sized(value)


def written(value: Any) -> str:
    return str(measured(value))
