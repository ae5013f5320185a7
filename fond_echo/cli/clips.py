"""clip inspect and clip convert."""

from __future__ import annotations

import argparse
import sys
from dataclasses import asdict
from pathlib import Path
from typing import Any

from fond_echo.cli.errors import Unreadable
from fond_echo.cli.files import STDIO, bytes_in
from fond_echo.cli.output import add_json, bar, print_json
from fond_echo.cli.speech import format_of, target
from fond_echo.contract.base import JsonObject


def add(commands: Any) -> None:
    clip = commands.add_parser("clip", help="inspect and convert sound files")
    verbs = clip.add_subparsers(dest="verb", required=True, metavar="VERB")
    inspect = verbs.add_parser("inspect", help="check whether files are proper voice notes")
    inspect.add_argument("files", nargs="+", type=Path, metavar="FILE",
                         help="- is standard input")  # fmt: skip
    add_json(inspect)
    inspect.set_defaults(run=_inspect)
    convert = verbs.add_parser("convert", help="write a file in another format")
    convert.add_argument("file", type=Path, help="- is standard input")
    convert.add_argument("-o", "--output", required=True,
                         help="such as note.ogg; - is standard output")  # fmt: skip
    convert.add_argument("--format", help="where the output's name does not say it")
    convert.add_argument("--loudness", type=float, metavar="LUFS", help="normalize to a loudness")
    convert.add_argument("--trim", action="store_true", help="cut silence at both ends")
    add_json(convert)
    convert.set_defaults(run=_convert)


def _inspect(options: argparse.Namespace) -> int:
    from fond_echo.core.audio.errors import SoundError
    from fond_echo.core.audio.inspect import Report, inspect

    reports: list[JsonObject] = []
    code = 0
    for file in options.files:
        try:
            report: Report = inspect(bytes_in(file))
        except (Unreadable, SoundError) as error:
            reported = str(error) if isinstance(error, Unreadable) else f"{file}: {error}"
            print(reported, file=sys.stderr)
            code = 1
            continue
        reports.append({"file": str(file), "voice_note": report.voice_note, **asdict(report)})
        if not report.voice_note:
            code = 1
        if not options.json:
            _show(file, report)
    if options.json:
        print_json(reports)
    return code


def _show(file: Path, report: Any) -> None:
    loud = f"{report.loudness:.1f} LUFS" if report.loudness is not None else "not defined"
    verdict = "a proper voice note" if report.voice_note else "not a proper voice note"
    print(f"{file}: {verdict}")
    layout = "mono" if report.channel_count == 1 else f"{report.channel_count} channels"
    rows = [
        ("format", f"{report.codec} in {report.container}, {layout}, {report.rate} Hz"),
        ("length", f"{report.seconds:.3f} s, {report.size:,} bytes, "
                   f"{report.bits_per_second / 1000:.0f} kbit/s"),
        ("loudness", loud),
        ("waveform", bar(report.waveform)),
    ]  # fmt: skip
    if report.pre_skip is not None:
        rows.insert(2, ("Ogg", f"pre-skip {report.pre_skip}, granule positions {report.granules}"))
    for name, value in rows:
        print(f"  {name:<9} {value}")
    for finding in report.findings:
        print(f"  ✗ {finding.what}\n    → {finding.remedy}")


def _convert(options: argparse.Namespace) -> int:
    from fond_echo.core.audio.activity import trimmed
    from fond_echo.core.audio.containers import FORMATS, decode
    from fond_echo.core.audio.level import normalized
    from fond_echo.core.audio.streaming import whole

    try:
        format = format_of(options.output, options.format)
    except ValueError as error:
        print(f"fond-echo: {error}", file=sys.stderr)
        return 2
    if options.json and options.output == STDIO:
        print("fond-echo: --json and sound cannot both go to standard output", file=sys.stderr)
        return 2
    clip = decode(bytes_in(options.file)).clip
    if options.trim:
        clip, _ = trimmed(clip)
    if options.loudness is not None:
        clip = normalized(clip, options.loudness)
    with target(options.output) as file:
        file.write(whole(clip, format, serial=1))
    if options.json:
        print_json({"file": options.output, "seconds": round(clip.seconds, 3)})
    elif options.output != STDIO:
        print(f"{options.output}: {clip.seconds:.2f} s, {FORMATS.get(format, format)}")
    return 0
