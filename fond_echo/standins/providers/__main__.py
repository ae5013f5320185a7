"""GANNET_PASS=… python -m fond_echo.standins.providers --port 8782"""

from __future__ import annotations

import argparse
import os
import sys
import threading

from fond_echo.http_server import serve
from fond_echo.standins.providers import sound
from fond_echo.standins.providers.app import create_app


def main() -> int:
    parser = argparse.ArgumentParser(
        prog="python -m fond_echo.standins.providers", description=__doc__
    )
    parser.add_argument("--port", type=int, default=8782)
    parser.add_argument("--wrong", type=float, default=0.0, help="share of words misheard (0)")
    parser.add_argument("--delay", type=float, default=0.0, help="seconds that hearing takes (0)")
    parser.add_argument("--word-seconds", type=float, default=0.0, help="of thought a word (0)")
    options = parser.parse_args()
    word = os.environ.get("GANNET_PASS", "")
    if not word:
        print("set GANNET_PASS (what callers show)", file=sys.stderr)
        return 2
    threading.Thread(target=sound.warm, daemon=True).start()
    app = create_app(
        word, wrong=options.wrong, delay=options.delay, word_seconds=options.word_seconds
    )
    serve(app, host="127.0.0.1", port=options.port, log_level="warning", access_log=False)
    return 0


if __name__ == "__main__":
    sys.exit(main())
