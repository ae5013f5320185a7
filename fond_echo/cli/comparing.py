"""fond-echo engine compare: recognizers on one's own recordings, ranked."""

from __future__ import annotations

import argparse
import base64
import json
import sys
import time
from pathlib import Path
from typing import Any

from fond_echo.cli.files import text_in
from fond_echo.cli.output import print_json, service, table
from fond_echo.client import FondEcho
from fond_echo.contract.engine import EngineTrialIn
from fond_echo.core.language.registry import language as language_of

SOUNDS = (".ogg", ".wav", ".flac", ".mp3", ".m4a", ".opus")
BUILT_IN = "built-in"
BAR = 16


def compare(options: argparse.Namespace) -> int:
    """Ask every engine for every recording that was not asked for before, and rank them."""
    from fond_echo.core.recognition.ranking import Heard, ranked, standing
    from fond_echo.core.recognition.scoring import edits

    files = sorted(each for each in options.folder.iterdir() if each.suffix in SOUNDS)
    files = [each for each in files if each.with_suffix(".txt").exists()]
    if not files:
        print(f"fond-echo: {options.folder} has no sound with a text beside it", file=sys.stderr)
        return 2
    kept = _kept(options.keep)
    spoken = language_of(options.language).writing.spoken_tokens
    standings = []
    with service(options) as echo:
        for name in options.engine:
            found = []
            for number, file in enumerate(files, 1):
                if (name, file.name) not in kept:
                    kept[name, file.name] = _asked(echo, name, file, options.language)
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
    if sys.stderr.isatty():
        print(file=sys.stderr)
    order = ranked(standings)
    if options.json:
        print_json([vars(each) for each in order])
        return 0
    most = max(0.01, *(each.high for each in order))
    rows = [
        (each.name, f"{each.rate:.1%}", f"{each.low:.1%} to {each.high:.1%}",
         _bar(each.low, each.rate, each.high, most), str(each.failed), f"{1_000 * each.wait:.0f}",
         f"{1_000 * each.long_wait:.0f}", f"{each.cost:.4f}")
        for each in order
    ]  # fmt: skip
    table(("engine", "wrong", "95 %", "", "failed", "p50 ms", "p95 ms", "cost"), rows)
    for each in order:
        kinds = ", ".join(f"{count} {kind}" for kind, count in sorted(each.kinds.items()) if count)
        if each.worst:
            print(f"  {each.name}: {kinds} words; worst at {', '.join(each.worst)}")
    return 0


def _bar(low: float, rate: float, high: float, most: float) -> str:
    """The interval to scale, with the rate in it."""
    places = [min(BAR - 1, round((BAR - 1) * each / most)) for each in (low, rate, high)]
    return "".join(
        "●" if k == places[1] else "─" if places[0] <= k <= places[2] else " " for k in range(BAR)
    )


def _asked(echo: FondEcho, name: str, file: Path, language: str) -> dict[str, Any]:
    """What an engine makes of a file: text, seconds, cost, and why it failed."""
    data, begun = file.read_bytes(), time.monotonic()
    if name == BUILT_IN:
        heard = echo.transcribe(data)
        seconds = time.monotonic() - begun
        return {"text": heard.written, "seconds": round(seconds, 3), "cost": 0.0, "why": ""}
    sound = base64.b64encode(data).decode()
    found = echo.try_engine(name, EngineTrialIn(sound=sound, language=language))
    asked = found.asked
    return {"text": found.text, "seconds": asked.seconds, "cost": asked.cost, "why": asked.why}


def _kept(file: Path | None) -> dict[tuple[str, str], dict[str, Any]]:
    """What was asked before."""
    if file is None or not file.exists():
        return {}
    rows = [json.loads(line) for line in text_in(file).splitlines() if line.strip()]
    return {(row["engine"], row["file"]): row for row in rows}


def _keep(file: Path | None, engine: str, name: str, found: dict[str, Any]) -> None:
    if file is not None:
        with file.open("a", encoding="utf-8") as out:
            out.write(json.dumps({"engine": engine, "file": name, **found}) + "\n")
