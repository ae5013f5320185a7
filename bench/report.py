"""What every benchmark prints: a table for people, JSON for keeping."""

from __future__ import annotations

import argparse
import json
import platform
import signal
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.table import Table

_began: list[int] = []


def _processor_times() -> list[int]:
    """What the processors did since the machine began: ticks by kind, of proc_stat(5); nothing
    where there is no such file."""
    counted = Path("/proc/stat")
    if not counted.exists():
        return []
    return [int(each) for each in counted.read_text().splitlines()[0].split()[1:]]


def stolen() -> float:
    """The share of the processors' time that the host gave to others since the benchmark began.
    Over a few per cent, lateness says nothing of the program."""
    past = [now - before for now, before in zip(_processor_times(), _began, strict=False)]
    return past[7] / max(1, sum(past[:8])) if past else 0.0


def options(description: str | None, **numbers: int) -> argparse.Namespace:
    """A benchmark's options: --json FILE, and its numbers with their defaults."""
    # Ended from outside, it ends what it began, as at Ctrl-C.
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    _began[:] = _processor_times()
    parser = argparse.ArgumentParser(
        description=description, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--json", type=Path, help="write the figures to a file too")
    for name, value in numbers.items():
        parser.add_argument(f"--{name}", type=int, default=value, help=f"({value})")
    return parser.parse_args()


def show(
    title: str, columns: Sequence[str], rows: Sequence[Sequence[Any]], file: Path | None = None
) -> None:
    """Print a table; write it as JSON where a file is given."""
    table = Table(title=title, title_justify="left")
    for column in columns:
        table.add_column(column, justify="left" if column == columns[0] else "right")
    for row in rows:
        table.add_row(*(f"{cell:.3g}" if isinstance(cell, float) else str(cell) for cell in row))
    console = Console(width=120)
    console.print(table)
    if stolen() >= 0.02:
        console.print(f"The host took {stolen():.0%} of the processors' time meanwhile.")
    if file is not None:
        figures = [dict(zip(columns, row, strict=True)) for row in rows]
        reported = {
            "title": title, "python": platform.python_version(), "stolen": round(stolen(), 3),
            "figures": figures,
        }  # fmt: skip
        file.write_text(json.dumps(reported, indent=2, ensure_ascii=False) + "\n")


def percentile(values: Sequence[float], share: float) -> float:
    """The value below which a share of the values lies (nearest rank)."""
    ordered = sorted(values)
    return ordered[min(len(ordered) - 1, int(share * len(ordered)))]
