"""What the processes of the demo take: processor time and memory, by what they are for."""

from __future__ import annotations

import contextlib
import os
import re
from collections import defaultdict
from collections.abc import Iterator

try:
    import psutil
except ModuleNotFoundError as missing:
    raise SystemExit("psutil is not installed: run script/setup --tests first") from missing

DATABASE, CHILDREN, DEMO = "PostgreSQL", "forked to hear, speak, decode", "the demo itself"

_TITLE = re.compile(r"python -m (?:fond_echo\.)?([\w.]+)(?: (\w+))?")


def _part(process: psutil.Process) -> str:
    """What a process below the demo's is for; forked ones that have no title of their own, and
    the one that they are forked from, are children."""
    if process.name() == "postgres":
        return DATABASE
    if (title := _TITLE.match(" ".join(process.cmdline()))) is None:
        return CHILDREN
    module, argument = title.groups()
    if module == "uvicorn":
        return "business logic"
    name = module.rpartition(".")[2]
    return argument if name == "cli" else f"stand-in {name}" if "standins" in module else name


def _each(root: int) -> Iterator[tuple[str, psutil.Process]]:
    """The demo's process and all below it, each with its part."""
    demo = psutil.Process(root)
    yield DEMO, demo
    for process in demo.children(recursive=True):
        with contextlib.suppress(psutil.NoSuchProcess):
            yield _part(process), process


def processor(root: int | None = None) -> dict[str, float]:
    """Seconds of processor time that each part has taken, with those of its children that ended.

    Args:
        root: the demo's process; this one if not given.
    """
    taken: dict[str, float] = defaultdict(float)
    for part, process in _each(root or os.getpid()):
        with contextlib.suppress(psutil.NoSuchProcess):
            taken[part] += sum(process.cpu_times()[:4])
    return taken


def memory(root: int | None = None) -> dict[str, float]:
    """Megabytes that each part takes, as the kernel divides them (PSS): what several processes
    share is counted to each of them in part.

    Raises:
        psutil.AccessDenied: the database's server runs as another user, and this one is not root.
    """
    taken: dict[str, float] = defaultdict(float)
    for part, process in _each(root or os.getpid()):
        with contextlib.suppress(psutil.NoSuchProcess):
            taken[part] += process.memory_full_info().pss / 1e6
    return taken


def spent(before: dict[str, float], after: dict[str, float]) -> dict[str, float]:
    """Seconds that each part took between two readings."""
    return {part: seconds - before.get(part, 0.0) for part, seconds in after.items()}
