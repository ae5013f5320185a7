"""speak: pure computation, no service needed."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

from fond_echo.cli.output import add_json, print_json

VOICE = "whimbrel"


def add(commands: Any) -> None:
    speak = commands.add_parser("speak", help="speak a text into a file")
    speak.add_argument("text", help="what to say; - reads standard input")
    speak.add_argument("-o", "--output", type=Path, required=True, help="such as reply.ogg")
    speak.add_argument("--voice", default=VOICE, help=f"which voice ({VOICE})")
    add_json(speak)
    speak.set_defaults(run=_speak)


def _speak(options: argparse.Namespace) -> int:
    from fond_echo.core.audio.clip import join
    from fond_echo.core.audio.containers import FORMATS, encode
    from fond_echo.speech.material import synthesizer

    text = sys.stdin.read() if options.text == "-" else options.text
    format = options.output.suffix.lstrip(".").lower()
    if format not in FORMATS:
        known = ", ".join(f".{each}" for each in FORMATS)
        print(f"fond-echo: {options.output} must end in {known}", file=sys.stderr)
        return 2
    parts = list(synthesizer().speak(text, options.voice))
    clip = join([part.clip for part in parts])
    options.output.write_bytes(encode(clip, format))
    if options.json:
        words: list[dict[str, Any]] = []
        start = 0.0
        for part in parts:
            words += [
                {"word": mark.word, "start": round(start + mark.start, 3),
                 "end": round(start + mark.end, 3)}
                for mark in part.marks
            ]  # fmt: skip
            start += part.clip.seconds
        print_json({"file": str(options.output), "seconds": round(clip.seconds, 3), "words": words})
    else:
        print(f"{options.output}: {clip.seconds:.2f} s, {FORMATS[format]}, voice {options.voice}")
    return 0
