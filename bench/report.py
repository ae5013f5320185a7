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


def options(description: str | None, **numbers: int) -> argparse.Namespace:
    """A benchmark's options: --json FILE, and its numbers with their defaults."""
    # Ended from outside, it ends what it began, as at Ctrl-C.
    signal.signal(signal.SIGTERM, signal.default_int_handler)
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
    Console(width=120).print(table)
    if file is not None:
        figures = [dict(zip(columns, row, strict=True)) for row in rows]
        reported = {"title": title, "python": platform.python_version(), "figures": figures}
        file.write_text(json.dumps(reported, indent=2, ensure_ascii=False) + "\n")


def percentile(values: Sequence[float], share: float) -> float:
    """The value below which a share of the values lies (nearest rank)."""
    ordered = sorted(values)
    return ordered[min(len(ordered) - 1, int(share * len(ordered)))]
