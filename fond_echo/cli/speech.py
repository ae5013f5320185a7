"""speak: pure computation, no service needed."""

from __future__ import annotations

import argparse
import sys
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO

from fond_echo.cli.files import STDIO, bytes_in
from fond_echo.cli.output import add_json, print_json
from fond_echo.cli.voices import voice_of
from fond_echo.contract.base import JsonObject

VOICE = "whimbrel"


def add(commands: Any) -> None:
    speak = commands.add_parser("speak", help="speak a text, or SSML, into a file")
    speak.add_argument("text", help="what to say; - reads standard input")
    speak.add_argument(
        "-o", "--output", required=True, help="such as reply.ogg; - is standard output"
    )
    speak.add_argument("--format", help="ogg, wav, flac, mp3, mulaw; by the file's ending, or ogg")
    speak.add_argument(
        "--voice", default=VOICE, help=f"a built-in voice, or a voice file ({VOICE})"
    )
    speak.add_argument("--language", default="en", help="of the text (en)")
    speak.add_argument("--rate", type=_within(0.5, 2.0), default=1.0, help="pace, 0.5 to 2 (1)")
    speak.add_argument("--pitch", type=_within(-12, 12), default=0.0, help="semitones higher (0)")
    speak.add_argument("--volume", type=_within(-20, 12), default=0.0, help="dB louder (0)")
    speak.add_argument(
        "--lexicon", type=Path, metavar="FILE.pls", help="a pronunciation lexicon (PLS)"
    )
    add_json(speak)
    speak.set_defaults(run=_speak)


def _within(low: float, high: float) -> Any:
    def number(text: str) -> float:
        value = float(text)
        if not low <= value <= high:
            raise argparse.ArgumentTypeError(f"{text} is not between {low:g} and {high:g}")
        return value

    return number


def format_of(output: str, format: str | None) -> str:
    """The format that was asked for, or that of the file's ending. Raises ValueError."""
    from fond_echo.core.audio.streaming import MEDIA_TYPES

    found = format or (Path(output).suffix.lstrip(".").lower() if output != STDIO else "ogg")
    found = {"ul": "mulaw", "ulaw": "mulaw", "oga": "ogg", "opus": "ogg"}.get(found, found)
    if found not in MEDIA_TYPES:
        known = ", ".join(f".{each}" for each in MEDIA_TYPES)
        raise ValueError(f"{output} must end in {known}, or --format say what it is")
    return found


@contextmanager
def target(output: str) -> Iterator[BinaryIO]:
    """Where sound is written: a file, or standard output."""
    if output == STDIO:
        yield sys.stdout.buffer
        sys.stdout.buffer.flush()
    else:
        with Path(output).open("wb") as file:
            yield file


def _speak(options: argparse.Namespace) -> int:
    from fond_echo.core.audio.streaming import writer_of
    from fond_echo.core.language.prosody import Prosody
    from fond_echo.core.language.registry import language
    from fond_echo.core.language.silent import silent_letters
    from fond_echo.core.synthesis.speaker import VOICES
    from fond_echo.core.synthesis.synthesizer import Synthesizer
    from fond_echo.speech.material import lexicon

    try:
        format = format_of(options.output, options.format)
    except ValueError as error:
        print(f"fond-echo: {error}", file=sys.stderr)
        return 2
    text = sys.stdin.read() if options.text == STDIO else options.text
    voice = voice_of(options.voice)
    known = lexicon(options.language)
    if options.lexicon:
        from fond_echo.core.language.pls import read_pls

        sounds = read_pls(bytes_in(options.lexicon).decode("utf-8", "replace"))
        known = known.with_sounds(sounds)
    mouth = Synthesizer(known, {**VOICES, voice.voice: voice.speaker})
    prosody = Prosody(rate=options.rate, pitch=options.pitch, volume=options.volume)
    total = len(mouth.planned(text, voice.voice))
    parts = mouth.speak(text, voice.voice, prosody=prosody)
    writer = writer_of(format, zlib.crc32(text.encode("utf-8", "replace")))
    words: list[JsonObject] = []
    marks: list[JsonObject] = []
    seconds = 0.0
    progress = sys.stderr.isatty() and total > 8 and not options.json
    with target(options.output) as file:
        for number, part in enumerate(parts, 1):
            file.write(writer.write(part.clip))
            words += [
                {"word": mark.word, "start": round(seconds + mark.start, 3),
                 "end": round(seconds + mark.end, 3)}
                for mark in part.marks
            ]  # fmt: skip
            marks += [{"name": name, "at": round(seconds + at, 3)} for name, at in part.places]
            seconds += part.clip.seconds
            if progress:
                print(f"\r{number / total:4.0%}  {seconds:.0f} s", end="", file=sys.stderr)
        file.write(writer.finish())
    if progress:
        print("\r\033[K", end="", file=sys.stderr)
    silent = silent_letters(text, language(options.language))
    if silent:
        print(f"fond-echo: nothing can be said for the letters {silent}", file=sys.stderr)
    where = sys.stderr if options.output == STDIO else sys.stdout
    if options.json and options.output != STDIO:
        print_json(
            {"file": options.output, "seconds": round(seconds, 3), "words": words, "marks": marks}
        )
    elif options.output != STDIO:
        print(f"{options.output}: {seconds:.2f} s, {format}, voice {voice.voice}", file=where)
    return 0
