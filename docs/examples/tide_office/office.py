"""An existing text service. It knows nothing of Fond Echo, and is not changed for it.

    python -m docs.examples.tide_office.office 8095

POST /question with {"words": "When is high water at Pell?"} gives {"says": "…"}.
"""

from __future__ import annotations

import json
import re
import sys
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

HIGH_WATER = {"brannick": "06:40 and 19:05", "pell": "06:55 and 19:20", "ossel": "07:10 and 19:35"}


def answer(words: str) -> str:
    """What the office says to a question."""
    named = [place for place in HIGH_WATER if re.search(rf"\b{place}\b", words.lower())]
    if named:
        return f"High water at {named[0].title()} today is at {HIGH_WATER[named[0]]}."
    if "spring" in words.lower():
        return "The next spring tide is on Saturday."
    return "The tide office knows high water at Brannick, Pell and Ossel, and the spring tides."


class Office(BaseHTTPRequestHandler):
    """The office's HTTP."""

    def do_POST(self) -> None:
        length = int(self.headers.get("Content-Length", 0))
        words = str(json.loads(self.rfile.read(length)).get("words", ""))
        body = json.dumps({"says": answer(words)}).encode()
        self.send_response(200)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        """Quiet."""


def main() -> None:
    port = int(sys.argv[1]) if len(sys.argv) > 1 else 8095
    ThreadingHTTPServer(("127.0.0.1", port), Office).serve_forever()


if __name__ == "__main__":
    main()
