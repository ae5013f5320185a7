"""SPINDRIFT_PASS=… python -m fond_echo.standins.feed --port 8781"""

from __future__ import annotations

import argparse
import os
import sys

from fond_echo.http_server import serve
from fond_echo.standins.feed.app import create_app


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m fond_echo.standins.feed", description=__doc__)
    parser.add_argument("--port", type=int, default=8781)
    options = parser.parse_args()
    word = os.environ.get("SPINDRIFT_PASS", "")
    if not word:
        print("set SPINDRIFT_PASS (what the bot shows)", file=sys.stderr)
        return 2
    app = create_app(word)
    serve(app, host="127.0.0.1", port=options.port, log_level="warning", access_log=False)
    return 0


if __name__ == "__main__":
    sys.exit(main())
