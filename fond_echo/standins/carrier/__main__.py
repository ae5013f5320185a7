"""CARRIER_PASS=… python -m fond_echo.standins.carrier --port 5090 NUMBER …"""

from __future__ import annotations

import argparse
import asyncio
import os
import signal
import sys

from fond_echo.standins.carrier.carrier import carrier


async def serve(options: argparse.Namespace, word: str) -> None:
    """Be a carrier until told to stop."""
    over = asyncio.Event()
    for name in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(name, over.set)
    passwords = dict.fromkeys(options.numbers, word)
    async with carrier(passwords, port=options.port, room_names=options.room) as there:
        for number in options.busy:
            await there.answers(number, "busy")
        for number in options.never:
            await there.answers(number, "ring-out")
        for number in options.rejects:
            await there.answers(number, "reject")
        await over.wait()


def main() -> int:
    parser = argparse.ArgumentParser(
        prog="python -m fond_echo.standins.carrier", description=__doc__
    )
    parser.add_argument("--port", type=int, default=5090)
    parser.add_argument("numbers", nargs="*", help="numbers that may register and call")
    parser.add_argument("--room", action="append", default=[], help="a room's name")
    for name, words in (
        ("busy", "a number that is always busy"),
        ("never", "a number that nobody answers"),
        ("rejects", "a number that rejects every call"),
    ):
        parser.add_argument(f"--{name}", action="append", default=[], metavar="NUMBER", help=words)
    options = parser.parse_args()
    word = os.environ.get("CARRIER_PASS", "")
    if not word:
        print("set CARRIER_PASS (the password of all its numbers)", file=sys.stderr)
        return 2
    asyncio.run(serve(options, word))
    return 0


if __name__ == "__main__":
    sys.exit(main())
