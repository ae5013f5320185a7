"""fond-echo bench: engines on one's own recordings or texts, ranked.

Engines that hear are given recordings with a text beside each, or the cases of an assistant that
have a recording; engines that speak are given texts, and what they spoke is heard again by our own
recognizer.
"""

from __future__ import annotations

import argparse
import base64
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn
from rich.table import Table

from fond_echo.cli.errors import NotAlike, NothingToRun
from fond_echo.cli.files import text_in
from fond_echo.cli.output import add_service, print_json, service, table
from fond_echo.client import FondEcho
from fond_echo.contract.base import JsonObject
from fond_echo.contract.bench import BenchAnswer, BenchDetail, BenchIn, StandingOut
from fond_echo.contract.engine import EngineTrialIn

SOUNDS = (".ogg", ".wav", ".flac", ".mp3", ".m4a", ".opus")
BUILT_IN = "built-in"
BAR = 16
SHOWN = {"other": "{said}→{heard}", "missing": "-{said}", "extra": "+{heard}", "same": "{said}"}
WORST = 5


def add(commands: Any) -> None:
    bench = commands.add_parser("bench", help="rank engines on your own recordings or texts")
    verbs = bench.add_subparsers(dest="verb", required=True, metavar="VERB")
    run = verbs.add_parser("run", help="ask engines for every file of a folder that is not done")
    run.add_argument("name", help="of the bench, which keeps the results")
    run.add_argument("folder", type=Path, help="of sounds with texts (a.ogg, a.txt), of cases with"
                     " recordings, or of texts alone for engines that speak")  # fmt: skip
    run.add_argument("--engine", action="append", required=True, metavar="NAME",
                     help="an engine to ask; built-in is ours")  # fmt: skip
    run.add_argument("--language", default="en")
    run.add_argument("--picture", type=Path, help="write the ranking as a picture, SVG")
    run.set_defaults(run=_run)
    show = verbs.add_parser("show", help="list benches, or show the ranking and worst files of one")
    show.add_argument("name", nargs="?", default="")
    show.add_argument("--file", default="", help="every engine's words for one file")
    show.add_argument("--picture", type=Path, help="write the ranking as a picture, SVG")
    show.set_defaults(run=_show)
    comparing = verbs.add_parser(
        "compare",
        help="compare two engines of a bench, or one engine in two benches, on the same files",
    )
    comparing.add_argument("name")
    comparing.add_argument("other", nargs="?", default="", help="the second engine's bench")
    comparing.add_argument("--engine", action="append", required=True, metavar="NAME",
                           help="twice; or once, with two benches")  # fmt: skip
    comparing.set_defaults(run=_compare)
    delete = verbs.add_parser("delete", help="delete a bench with all its answers")
    delete.add_argument("name")
    delete.set_defaults(run=_delete)
    for each in (run, show, comparing, delete):
        add_service(each)


def _kind(echo: FondEcho, names: list[str], folder: Path) -> str:
    """Whether the engines hear or speak.

    Raises:
        NotAlike: some do the one and some the other, or neither.
    """
    there = {each.name: str(each.does) for each in echo.engines()}
    kinds = {there.get(name, "unknown") for name in names if name != BUILT_IN}
    if not kinds:
        kinds = {"transcribe" if next(_recordings(folder), None) else "speak"}
    if len(kinds) > 1 or not kinds <= {"transcribe", "speak"}:
        each = ", ".join(f"{name}: {there.get(name, 'not connected')}" for name in names)
        raise NotAlike(f"these cannot be ranked together: {each}",
                       remedy="give engines that all hear, or that all speak")  # fmt: skip
    return kinds.pop()


def _recordings(folder: Path) -> Iterator[tuple[str, str, Path]]:
    """Recordings with what is said in them: those with a text beside them, and those of cases that
    say what must be heard."""
    from fond_echo.documents.case import CaseFile
    from fond_echo.documents.errors import InvalidFile
    from fond_echo.documents.source import read_yaml
    from fond_echo.documents.validate import validated

    for file in sorted(folder.iterdir()):
        beside = file.with_suffix(".txt")
        if file.suffix in SOUNDS and beside.exists():
            yield file.name, text_in(beside).strip(), file
        elif file.suffix == ".yaml":
            try:
                case = validated(read_yaml(text_in(file), file.name), CaseFile)
            except InvalidFile:
                continue  # another file of the folder
            sound = folder / case.sound
            if case.sound and case.expect.heard and sound.is_file():
                yield case.sound, case.expect.heard, sound


def _files(folder: Path, does: str) -> list[tuple[str, str, Path]]:
    """What engines are given: a name, what is said, and the file. Raises NothingToRun."""
    if does == "speak":
        found = [(each.name, text_in(each).strip(), each) for each in sorted(folder.glob("*.txt"))]
    else:
        found = list(_recordings(folder))
    found = [each for each in found if each[1]]
    if not found:
        wanted = "text" if does == "speak" else "sound with a text beside it"
        raise NothingToRun(f"{folder} has no {wanted}", remedy="such as a.ogg and a.txt")
    return found


def _run(options: argparse.Namespace) -> int:
    with service(options) as echo:
        does = _kind(echo, options.engine, options.folder)
        files = _files(options.folder, does)
        echo.put_bench(options.name, BenchIn(does=does, language=options.language))
        done = {(each.engine, each.file) for each in echo.bench(options.name).answers
                if not each.why}  # fmt: skip
        left = [(engine, *file) for engine in options.engine for file in files
                if (engine, file[0]) not in done]  # fmt: skip
        columns = TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn()
        quiet = not sys.stderr.isatty()
        with Progress(*columns, console=Console(stderr=True), disable=quiet) as progress:
            task = progress.add_task(options.name, total=len(left))
            for engine, name, said, file in left:
                ask = _spoken if does == "speak" else _heard
                answer = ask(echo, engine, file, said, options.language)
                echo.add_bench_answers(options.name, [BenchAnswer(**{**answer, "file": name})])
                progress.update(task, advance=1, connector=engine)
        found = echo.bench(options.name)
    return _shown(found, options)


def _shown(found: BenchDetail, options: argparse.Namespace) -> int:
    if options.json:
        print_json(found)
        return 0
    console = Console(width=130, record=options.picture is not None, highlight=False)
    _ranking(console, found)
    if options.picture is not None:
        console.save_svg(str(options.picture), title=f"bench {found.name}")
    return 0


def _ranking(console: Console, found: BenchDetail) -> None:
    speaks = found.does == "speak"
    most = max([0.01, *(each.high for each in found.ranked)])
    title = "what was heard back" if speaks else "words wrong"
    shown = Table(title=f"{found.name}: {title}", title_justify="left")
    columns = ["engine", "wrong", "95 %", "", "failed", "p50 ms", "p95 ms", "cost", "each"]
    for name in [*columns, *(["first ms", "s of sound", "LUFS"] if speaks else [])]:
        left = name in ("engine", "", "95 %")
        shown.add_column(name, justify="left" if left else "right", no_wrap=True)
    for each in found.ranked:
        row = [
            each.engine, f"{each.rate:.1%}", f"{each.low:.1%} to {each.high:.1%}",
            _bar(each, most), f"{each.failed} of {each.files}", f"{1_000 * each.wait:.0f}",
            f"{1_000 * each.long_wait:.0f}", f"{each.cost:.4f}", f"{each.cost_each:.5f}",
        ]  # fmt: skip
        if speaks:
            row += [f"{1_000 * each.first_seconds:.0f}", f"{each.length:.1f}", f"{each.level:.1f}"]
        shown.add_row(*row)
    console.print(shown)
    for each in found.ranked:
        kinds = ", ".join(f"{count} {kind}" for kind, count in sorted(each.kinds.items()) if count)
        if each.worst:
            console.print(f"  {each.engine}: {kinds} words; worst at {', '.join(each.worst)}",
                          soft_wrap=True)  # fmt: skip


def _bar(each: StandingOut, most: float) -> str:
    """The interval to scale, with the rate in it."""
    shares = each.low, each.rate, each.high
    places = [min(BAR - 1, round((BAR - 1) * share / most)) for share in shares]
    return "".join(
        "●" if k == places[1] else "─" if places[0] <= k <= places[2] else " " for k in range(BAR)
    )


def _heard(echo: FondEcho, engine: str, file: Path, said: str, language: str) -> JsonObject:
    """What an engine hears in a file."""
    sound = base64.b64encode(file.read_bytes()).decode()
    found = echo.try_engine(engine, EngineTrialIn(sound=sound, language=language))
    asked = found.asked
    return {"engine": engine, "said": said, "text": found.text, "seconds": asked.seconds,
            "cost": asked.cost, "why": asked.why[:600]}  # fmt: skip


def _spoken(echo: FondEcho, engine: str, file: Path, said: str, language: str) -> JsonObject:
    """What our recognizer hears of a text that an engine spoke."""
    from fond_echo.core.audio.containers import decode
    from fond_echo.core.audio.level import loudness

    found = echo.try_engine(engine, EngineTrialIn(text=said, language=language))
    asked = found.asked
    answer = {"engine": engine, "said": said, "seconds": asked.seconds, "cost": asked.cost,
              "why": asked.why[:600], "first_seconds": found.first_seconds}  # fmt: skip
    data = base64.b64decode(found.sound)
    if not data:
        return answer
    clip = decode(data).clip
    heard = echo.transcribe(data).written
    return {**answer, "text": heard, "length": round(clip.seconds, 2),
            "level": round(loudness(clip) or 0.0, 1)}  # fmt: skip


def _show(options: argparse.Namespace) -> int:
    with service(options) as echo:
        if not options.name:
            benches = echo.benches()
            if options.json:
                print_json(benches)
                return 0
            rows = [
                (each.name, each.does, each.language, f"{each.created_at:%Y-%m-%d %H:%M}",
                 ", ".join(f"{one.engine} {one.rate:.1%}" for one in each.ranked))
                for each in benches
            ]  # fmt: skip
            table(("bench", "does", "language", "begun", "words wrong"), rows)
            return 0
        found = echo.bench(options.name)
    if not options.file:
        code = _shown(found, options)
        if not options.json:
            _worst(found)
        return code
    mine = [each for each in found.answers if each.file == options.file]
    if not mine:
        raise NothingToRun(f"the bench {options.name} has no file {options.file}")
    if options.json:
        print_json(mine)
        return 0
    for each in mine:
        words = " ".join(SHOWN[one.step].format(**one.model_dump()) for one in each.steps)
        print(
            f"{each.engine}: {words or each.why}\n  {each.errors} of {each.word_count} words wrong"
        )
    return 0


def _worst(found: BenchDetail) -> None:
    """The files with the most errors, by the engine that did best."""
    if not found.ranked:
        return
    best = found.ranked[0].engine
    mine = [each for each in found.answers if each.engine == best and each.errors]
    for each in sorted(mine, key=lambda one: -one.errors / max(1, one.word_count))[:WORST]:
        words = " ".join(SHOWN[one.step].format(**one.model_dump()) for one in each.steps)
        print(f"  {each.file}: {words or each.why}")


def _compare(options: argparse.Namespace) -> int:
    names = options.engine * 2 if len(options.engine) == 1 else options.engine
    if len(names) != 2 or (names[0] == names[1] and not options.other):
        print("fond-echo: give --engine twice, or one engine and two benches", file=sys.stderr)
        return 2
    with service(options) as echo:
        found = echo.compare_engines(options.name, names[0], names[1], options.other)
    if options.json:
        print_json(found)
        return 0
    first, second = (
        (f"{found.first} in {options.name}", f"in {options.other}")
        if options.other else (found.first, found.second)
    )  # fmt: skip
    more = "more" if found.by > 0 else "fewer"
    print(f"{first} has {abs(found.by):.1%} of the words {more} wrong than {second},"
          f" on {found.files} files (95 %: {found.low:+.1%} to {found.high:+.1%}).")  # fmt: skip
    print("That is more than chance." if found.certain else "That may be chance.")
    for what, files in (("better", found.better), ("worse", found.worse)):
        if files:
            print(f"  {what} on {len(files)}: {', '.join(files[:8])}")
    return 0


def _delete(options: argparse.Namespace) -> int:
    with service(options) as echo:
        echo.delete_bench(options.name)
    if not options.json:
        print(f"Bench {options.name} deleted.")
    return 0
