"""fond-echo engine compare: engines on one's own recordings or texts, ranked.

Engines that hear are given recordings with a text beside each; engines that speak are given the
texts, and what they spoke is heard again by our own recognizer.
"""

from __future__ import annotations

import argparse
import base64
import json
import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.table import Table

from fond_echo.cli.files import text_in
from fond_echo.cli.output import print_json, service
from fond_echo.client import FondEcho
from fond_echo.contract.engine import EngineTrialIn
from fond_echo.contract.renditions import RenditionIn
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.registry import language as language_of

SOUNDS = (".ogg", ".wav", ".flac", ".mp3", ".m4a", ".opus")
BUILT_IN = "built-in"
BAR = 16

Found = dict[str, Any]
"""What an engine made of a file: text, seconds, cost, why it failed; length and level of speech."""


class NotAlike(FondEchoError):
    """Engines that do not do the same."""

    code = "engines-not-alike"


def compare(options: argparse.Namespace) -> int:
    """Ask every engine for every file that was not asked for before, and rank them."""
    from fond_echo.core.recognition.ranking import Heard, ranked, standing
    from fond_echo.core.recognition.scoring import edits

    kept = _kept(options.keep)
    spoken = language_of(options.language).writing.spoken_tokens
    standings, speech = [], {}
    with service(options) as echo:
        does = _kind(echo, options.engine)
        files = _files(options.folder, does)
        if not files:
            wanted = "text" if does == "speak" else "sound with a text beside it"
            print(f"fond-echo: {options.folder} has no {wanted}", file=sys.stderr)
            return 2
        ask = _spoken if does == "speak" else _heard
        for name in options.engine:
            found = []
            for number, file in enumerate(files, 1):
                if (name, file.name) not in kept:
                    kept[name, file.name] = ask(echo, name, file, options.language)
                    _keep(options.keep, name, file.name, kept[name, file.name])
                if sys.stderr.isatty():
                    print(f"\r{name}: {number} of {len(files)}", end="", file=sys.stderr)
                one = kept[name, file.name]
                words = spoken(text_in(file.with_suffix(".txt")))
                wrong = None if one["why"] else edits(words, spoken(one["text"]))
                found.append(
                    Heard(file.name, wrong, len(words), one["seconds"], one["cost"], one["why"])
                )
            standings.append(standing(name, found))
            speech[name] = _speech([kept[name, file.name] for file in files])
    if sys.stderr.isatty():
        print(file=sys.stderr)
    order = ranked(standings)
    if options.json:
        more = speech if does == "speak" else {}
        print_json([vars(each) | more.get(each.name, {}) for each in order])
    else:
        _show(order, speech if does == "speak" else {}, options.picture)
    return 0


def _kind(echo: FondEcho, names: list[str]) -> str:
    """Whether the engines hear or speak.

    Raises:
        NotAlike: some do the one and some the other, or neither.
    """
    there = {each.name: each.does for each in echo.engines()}
    kinds = {there.get(name, "unknown") for name in names if name != BUILT_IN} or {"transcribe"}
    if len(kinds) > 1 or not kinds <= {"transcribe", "speak"}:
        each = ", ".join(f"{name}: {there.get(name, 'not connected')}" for name in names)
        raise NotAlike(f"these cannot be ranked together: {each}",
                       remedy="compare engines that all hear, or that all speak")  # fmt: skip
    return kinds.pop()


def _files(folder: Path, does: str) -> list[Path]:
    if does == "speak":
        return sorted(folder.glob("*.txt"))
    files = sorted(each for each in folder.iterdir() if each.suffix in SOUNDS)
    return [each for each in files if each.with_suffix(".txt").exists()]


def _show(order: list[Any], speech: dict[str, Found], picture: Path | None) -> None:
    most = max(0.01, *(each.high for each in order))
    columns = ["engine", "wrong", "95 %", "", "failed", "p50 ms", "p95 ms", "cost"]
    shown = Table(title="what was heard back" if speech else "words wrong", title_justify="left")
    for name in [*columns, *(["s of sound", "LUFS"] if speech else [])]:
        left = name in ("engine", "", "95 %")
        shown.add_column(name, justify="left" if left else "right", no_wrap=True)
    notes = []
    for each in order:
        row = [
            each.name, f"{each.rate:.1%}", f"{each.low:.1%} to {each.high:.1%}",
            _bar(each.low, each.rate, each.high, most), str(each.failed),
            f"{1_000 * each.wait:.0f}", f"{1_000 * each.long_wait:.0f}", f"{each.cost:.4f}",
        ]  # fmt: skip
        if speech:
            row += [f"{speech[each.name]['length']:.1f}", f"{speech[each.name]['level']:.1f}"]
        shown.add_row(*row)
        kinds = ", ".join(f"{count} {kind}" for kind, count in sorted(each.kinds.items()) if count)
        if each.worst:
            notes.append(f"  {each.name}: {kinds} words; worst at {', '.join(each.worst)}")
    console = Console(width=124, record=picture is not None, highlight=False)
    console.print(shown)
    for note in notes:
        console.print(note, soft_wrap=True)
    if picture is not None:
        console.save_svg(str(picture), title="engines on the same files")


def _bar(low: float, rate: float, high: float, most: float) -> str:
    """The interval to scale, with the rate in it."""
    places = [min(BAR - 1, round((BAR - 1) * each / most)) for each in (low, rate, high)]
    return "".join(
        "●" if k == places[1] else "─" if places[0] <= k <= places[2] else " " for k in range(BAR)
    )


def _heard(echo: FondEcho, name: str, file: Path, language: str) -> Found:
    """What an engine hears in a file."""
    data = file.read_bytes()
    if name == BUILT_IN:
        return _timed(lambda: {"text": echo.transcribe(data).written})
    sound = base64.b64encode(data).decode()
    found = echo.try_engine(name, EngineTrialIn(sound=sound, language=language))
    asked = found.asked
    return {"text": found.text, "seconds": asked.seconds, "cost": asked.cost, "why": asked.why}


def _spoken(echo: FondEcho, name: str, file: Path, language: str) -> Found:
    """What our recognizer hears of a text that an engine spoke."""
    from fond_echo.core.audio.containers import decode
    from fond_echo.core.audio.level import loudness

    text = text_in(file).strip()
    if name == BUILT_IN:
        made = _timed(partial(_ours, echo, text))
    else:
        found = echo.try_engine(name, EngineTrialIn(text=text, language=language))
        asked = found.asked
        made = {"sound": base64.b64decode(found.sound), "seconds": asked.seconds,
                "cost": asked.cost, "why": asked.why}  # fmt: skip
    data = made.pop("sound", b"")
    if not data:
        return {**made, "text": "", "length": 0.0, "level": 0.0}
    clip = decode(data).clip
    level = loudness(clip)
    heard = echo.transcribe(data).written
    return {**made, "text": heard, "length": round(clip.seconds, 2), "level": round(level or 0, 1)}


def _ours(echo: FondEcho, text: str) -> Found:
    return {"sound": echo.rendered(RenditionIn(text=text))}


def _timed(ask: Callable[[], Found]) -> Found:
    begun = time.monotonic()
    found = ask()
    return {**found, "seconds": round(time.monotonic() - begun, 3), "cost": 0.0, "why": ""}


def _speech(found: list[Found]) -> Found:
    """How long all that was spoken is, and how loud on the average."""
    there = [each for each in found if each.get("length")]
    levels = [each["level"] for each in there]
    return {"length": sum(each["length"] for each in there),
            "level": sum(levels) / len(levels) if levels else 0.0}  # fmt: skip


def _kept(file: Path | None) -> dict[tuple[str, str], Found]:
    """What was asked before."""
    if file is None or not file.exists():
        return {}
    rows = [json.loads(line) for line in text_in(file).splitlines() if line.strip()]
    return {(row["engine"], row["file"]): row for row in rows}


def _keep(file: Path | None, engine: str, name: str, found: Found) -> None:
    if file is not None:
        with file.open("a", encoding="utf-8") as out:
            out.write(json.dumps({"engine": engine, "file": name, **found}) + "\n")
