"""The command `fond-echo`."""

from __future__ import annotations

import argparse
import os
import sys

from fond_echo import __version__
from fond_echo.cli import (
    assistants,
    benches,
    calls,
    channels,
    clips,
    connecting,
    connectors,
    conversations,
    dialing,
    engines,
    events,
    hearing,
    keys,
    scenarios,
    serving,
    speech,
    talking,
    turns,
    voices,
)
from fond_echo.cli.errors import NotInstalled
from fond_echo.cli.output import fail
from fond_echo.core.errors import FondEchoError

EXIT = """exit codes: 0 done, 1 the work failed, 2 wrong use, 3 the service cannot be reached

The service is found by --address and --key, or FOND_ECHO_ADDRESS and FOND_ECHO_KEY."""


def _not_installed(command: str, module: str) -> NotInstalled:
    extra = "service" if command in serving.COMMANDS else "speech"
    return NotInstalled(
        f"{command} needs {module}, which is not in the base install",
        remedy=f"pip install 'fond-echo[{extra}]'",
    )


def parser() -> argparse.ArgumentParser:
    """The parser with all commands."""
    top = argparse.ArgumentParser(
        prog="fond-echo",
        description="An ear and a voice for text business logic.",
        epilog=EXIT,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    top.add_argument("--version", action="version", version=f"Fond Echo {__version__}")
    commands = top.add_subparsers(dest="command", required=True, metavar="COMMAND")
    for module in (
        *(serving, speech, voices, hearing, clips, assistants, channels, connecting),
        *(
            connectors,
            engines,
            benches,
            conversations,
            turns,
            calls,
            events,
            keys,
            dialing,
            talking,
            scenarios,
        ),
    ):
        module.add(commands)
    return top


def main(arguments: list[str] | None = None) -> int:
    """Run a command; gives its exit code."""
    options = parser().parse_args(arguments)
    try:
        code: int = options.run(options)
        return code
    except FondEchoError as error:
        return fail(error)
    except ModuleNotFoundError as error:
        if (error.name or "fond_echo").partition(".")[0] == "fond_echo":
            raise
        return fail(_not_installed(options.command, error.name or ""))
    except KeyboardInterrupt:
        print(file=sys.stderr)
        return 130
    except BrokenPipeError:
        # The reader of our output, such as `head`, has seen enough.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        if error.filename is None:
            raise
        print(f"fond-echo: {error.filename}: {error.strerror}", file=sys.stderr)
        return 1
