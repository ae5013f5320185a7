"""The start command: what takes seconds to load begins to load before anything else does."""

from __future__ import annotations

import contextlib
import sys

LOADED_AHEAD = ("demo", "serve")
"""Commands that fork all their processes from one that has loaded what they share."""


def main() -> int:
    """Run a command; gives its exit code."""
    if sys.argv[1:2] and sys.argv[1] in LOADED_AHEAD and not {"-h", "--help"} & {*sys.argv}:
        # The command itself reports what is not installed.
        with contextlib.suppress(ModuleNotFoundError):
            from fond_echo.running.fork_server import open_fork_server

            open_fork_server()
    from fond_echo.cli.main import main as run

    return run()
