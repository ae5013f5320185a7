"""speak and transcribe: pure computation, no service needed."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

from fond_echo.cli.output import add_json, print_json

VOICE = "plover"


def add(commands: Any) -> None:
    speak = commands.add_parser("speak", help="speak a text into a file")
    speak.add_argument("text", help="what to say; - reads standard input")
    speak.add_argument("-o", "--output", type=Path, required=True, help="such as reply.ogg")
    speak.add_argument("--voice", default=VOICE, help=f"which voice ({VOICE})")
    add_json(speak)
    speak.set_defaults(run=_speak)
    hear = commands.add_parser("transcribe", help="write down what is said in files")
    hear.add_argument("files", nargs="+", type=Path, metavar="FILE")
    hear.add_argument(
        "--expect", action="append", default=[], metavar="PHRASE", help="a phrase to listen for"
    )
    hear.add_argument("--assistant", type=Path, help="listen for what this assistant understands")
    add_json(hear)
    hear.set_defaults(run=_transcribe)


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


def _transcribe(options: argparse.Namespace) -> int:
    from fond_echo.core.audio.containers import decode
    from fond_echo.core.audio.errors import SoundError
    from fond_echo.core.recognition.transcript import Expected
    from fond_echo.speech.heard import as_heard
    from fond_echo.speech.material import recogniser

    expected = Expected((*options.expect, *_examples(options.assistant)))
    results: list[dict[str, Any]] = []
    failed = False
    for file in options.files:
        try:
            clip = decode(file.read_bytes()).clip
        except (OSError, SoundError) as error:
            print(f"{file}: {error}", file=sys.stderr)
            failed = True
            continue
        heard = as_heard(recogniser().transcribe(clip, expected))
        results.append({"file": str(file), **heard.model_dump()})
        if not options.json:
            text = heard.written or "(no speech)"
            doubt = "" if heard.confidence >= 0.5 else ", unsure"
            print(f"{file}: {text}  [{heard.source}, {heard.confidence:.0%}{doubt}]")
    if options.json:
        print_json(results)
    return 1 if failed else 0


def _examples(folder: Path | None) -> tuple[str, ...]:
    if folder is None:
        return ()
    from fond_echo.cli.assistants import files_in
    from fond_echo.core.dialogue.routing import Router
    from fond_echo.documents.reading import read_assistant

    return Router(read_assistant(files_in(folder)).router_routes()).examples
