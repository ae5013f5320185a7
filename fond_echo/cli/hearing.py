"""transcribe: what is said in files. Pure computation, no service needed."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fond_echo.cli.files import STDIO, bytes_in, text_in
from fond_echo.cli.output import add_json, print_json
from fond_echo.cli.scores import Score, scored, together
from fond_echo.contract.base import JsonObject

if TYPE_CHECKING:
    from fond_echo.core.recognition.graph import WordNetwork
    from fond_echo.core.recognition.transcript import Expected, Transcript

LONG_BYTES = 2_000_000
"""A larger file is read a little at a time, and what was heard is joined."""

FORMS = ("text", "srt", "vtt")


def add(commands: Any) -> None:
    hear = commands.add_parser("transcribe", help="transcribe sound files")
    hear.add_argument("files", nargs="+", type=Path, metavar="FILE", help="- is standard input")
    hear.add_argument(
        "--expect", action="append", default=[], metavar="PHRASE",
        help="a whole utterance to hold the sound against first",
    )  # fmt: skip
    hear.add_argument(
        "--hint", action="append", default=[], metavar="WORDS",
        help="words that are likely to be said, names among them",
    )  # fmt: skip
    hear.add_argument("--assistant", type=Path, help="listen for what this assistant understands")
    hear.add_argument(
        "--grammar", type=Path, help="listen for what this grammar (ABNF, XML) allows"
    )
    hear.add_argument(
        "--only", action="store_true",
        help="accept only expected phrases and return the likeliest one",
    )  # fmt: skip
    hear.add_argument("--language", default="en", help="of what is said (en)")
    hear.add_argument("--form", choices=FORMS, default="text", help="text, or subtitles")
    hear.add_argument(
        "--score", action="store_true",
        help="beside each file lies a .txt with what was said: count the errors",
    )  # fmt: skip
    hear.add_argument("--output", type=Path, help="write one file each into this folder")
    add_json(hear)
    hear.set_defaults(run=_transcribe)


def _transcribe(options: argparse.Namespace) -> int:
    from fond_echo.core.errors import FondEchoError
    from fond_echo.core.language.registry import language as language_of
    from fond_echo.speech.heard import as_heard

    language_of(options.language)
    expected = _expected(options)
    if options.output:
        options.output.mkdir(parents=True, exist_ok=True)
    results: list[JsonObject] = []
    scores: list[Score] = []
    failed = False
    for file in options.files:
        try:
            with _progress(file) as reported:
                transcript = _heard(file, expected, options.language, reported)
            score = scored(file, transcript.spoken) if options.score else None
        except (OSError, FondEchoError) as error:
            where = getattr(error, "filename", None) or file
            reason = error.strerror if isinstance(error, OSError) else str(error)
            print(f"{where}: {reason}", file=sys.stderr)
            failed = True
            continue
        heard = as_heard(transcript, options.language)
        results.append({"file": str(file), **heard.model_dump()})
        if score is not None:
            scores.append(score)
            results[-1]["score"] = score.as_json()
        text = _in_form(transcript, options.form, expected)
        if options.output:
            suffix = ".txt" if options.form == "text" else f".{options.form}"
            (options.output / f"{file.stem}{suffix}").write_text(text + "\n", encoding="utf-8")
        elif options.form != "text":
            print(text)
        if not options.json and options.form == "text":
            doubt = "" if heard.confidence >= 0.5 else ", unsure"
            shown = heard.written or "(no speech)"
            print(f"{file}: {shown}  [{heard.source}, {heard.confidence:.0%}{doubt}]")
            if score is not None:
                print(score.shown())
    if options.json:
        print_json(results)
    elif scores:
        print(together(scores))
    return 1 if failed else 0


def _heard(
    file: Path, expected: Expected, language: str, reported: Callable[[float, int], None]
) -> Transcript:
    from fond_echo.core.audio.containers import decode
    from fond_echo.speech.material import recognizer

    if str(file) == STDIO or file.stat().st_size <= LONG_BYTES:
        clip = decode(bytes_in(file)).clip
        return recognizer(language).transcribe(clip, expected)
    from fond_echo.core.audio.blocks import blocks
    from fond_echo.core.recognition.hearing import TOGETHER_OF_FILES, Hearing, Utterance
    from fond_echo.core.recognition.symbols import RATE
    from fond_echo.core.recognition.transcript import NOTHING, joined

    hearing = Hearing(recognizer(language), expected, together=TOGETHER_OF_FILES)
    found: list[Transcript] = []
    for block in blocks(file, RATE):
        for each in hearing.feed(block):
            if isinstance(each, Utterance) and each.transcript.words:
                found.append(each.transcript)
        reported(hearing.seconds, len(found))
    found += [each.transcript for each in hearing.finish() if isinstance(each, Utterance)]
    return joined(found) if found else NOTHING


@contextmanager
def _progress(file: Path) -> Iterator[Callable[[float, int], None]]:
    """A line that says how far it is, on a terminal; nothing elsewhere."""
    shown = sys.stderr.isatty()

    def reported(seconds: float, utterances: int) -> None:
        if shown:
            minutes = f"{int(seconds) // 60}:{int(seconds) % 60:02d}"
            print(f"\r{file}: {minutes}, {utterances} utterances", end="", file=sys.stderr)

    yield reported
    if shown:
        print("\r\033[K", end="", file=sys.stderr)


def _in_form(transcript: Transcript, form: str, expected: Expected) -> str:
    from fond_echo.core.language.subtitles import cues, srt, vtt

    if form == "text":
        return transcript.written
    found = cues(transcript.words, expected.names)
    return srt(found) if form == "srt" else vtt(found)


def _expected(options: argparse.Namespace) -> Expected:
    from fond_echo.core.recognition.transcript import Expected

    names = tuple(hint for hint in options.hint if hint[:1].isupper())
    hints = tuple(hint for hint in options.hint if not hint[:1].isupper())
    phrases: tuple[str, ...] = tuple(options.expect)
    network = None
    sounds: tuple[tuple[str, str], ...] = ()
    if options.assistant:
        from fond_echo.cli.folder import files_in
        from fond_echo.documents.digest import digest
        from fond_echo.documents.reading import read_assistant
        from fond_echo.turns.expected import understood_by

        files = files_in(options.assistant)
        understood = understood_by(digest(files), read_assistant(files))
        phrases, network = (*understood.phrases, *phrases), understood.network
        sounds = understood.sounds
    if options.grammar:
        network = _grammar(options.grammar, phrases)
    elif options.expect:
        network = None
    return Expected(phrases, names, network, hints, sounds, options.only)


def _grammar(file: Path, phrases: tuple[str, ...]) -> WordNetwork:
    """Raises GrammarError, which says in which line."""
    from fond_echo.core.grammar.abnf import read_abnf
    from fond_echo.core.grammar.check import check_grammar
    from fond_echo.core.grammar.model import Grammar, Reference
    from fond_echo.core.grammar.network import network_of
    from fond_echo.core.grammar.xml_form import read_xml
    from fond_echo.core.language.registry import language as language_of

    text, known = text_in(file), language_of()
    read = read_xml(text) if text.lstrip().startswith("<") else read_abnf(text)
    grammar = Grammar(
        read.rules, read.root, read.language, {"builtin:": known.types.builtin_grammar()}
    )
    check_grammar(grammar)
    spoken = [tuple(known.writing.spoken_tokens(each)) for each in phrases]
    return network_of(grammar, [Reference(read.root)], spoken)
