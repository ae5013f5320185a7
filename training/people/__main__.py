"""Read people's speech with its text out of three packages of Debian main.

    python -m training.people --folder people

Downloads and unpacks them (nothing of them is installed or run), checks digests and counts, and
writes clips as WAV and `list.tsv`: package, name, file, part, speaker, seconds, text.
"""

from __future__ import annotations

import argparse
import csv
import wave
from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from bench.report import show
from fond_echo.core.audio.clip import Clip
from training.people import castle, queen, sky
from training.people.fetching import fetch
from training.people.lines import Line, UnreadableData
from training.people.parts import part_of

COUNTS = {"queen": 6_584, "sky": 3_491, "castle": 742}
LIST = "list.tsv"
COLUMNS = ("package", "name", "file", "part", "speaker", "seconds", "text")


@dataclass(frozen=True)
class Listed:
    """A row of the list."""

    package: str
    name: str
    file: Path
    part: str
    speaker: str
    seconds: float
    text: str


def listed(folder: Path) -> list[Listed]:
    """The rows of a folder's list, with files relative to nothing."""
    with (folder / LIST).open(newline="") as rows:
        return [
            Listed(
                row["package"], row["name"], folder / row["file"], row["part"], row["speaker"],
                float(row["seconds"]), row["text"],
            )
            for row in csv.DictReader(rows, delimiter="\t", quoting=csv.QUOTE_NONE)
        ]  # fmt: skip


def write(clip: Clip, file: Path) -> None:
    """A clip as WAV with 16 bits."""
    with wave.open(str(file), "wb") as out:
        out.setnchannels(1)
        out.setsampwidth(2)
        out.setframerate(clip.rate)
        out.writeframes((np.clip(clip.samples, -1, 1) * 32_767).astype("<i2").tobytes())


def extract(folder: Path) -> Iterator[Listed]:
    """Every line, written down as a clip."""
    packages = fetch(folder)
    sources: dict[str, Iterator[Line]] = {
        "queen": queen.lines(packages["flight-of-the-amazon-queen"]),
        "sky": sky.lines(packages["beneath-a-steel-sky"], packages["scummvm"]),
        "castle": castle.lines(packages["drascula"]),
    }
    for package, lines in sources.items():
        (folder / package).mkdir(exist_ok=True)
        for line in lines:
            file = Path(package) / f"{line.name}.wav"
            write(line.sound, folder / file)
            number = int(line.name) if package == "sky" else 0
            text = " ".join(line.text.split())
            part = part_of(package, line.speaker, number)
            seconds = round(line.sound.seconds, 2)
            yield Listed(package, line.name, file, part, line.speaker, seconds, text)


def report(rows: list[Listed]) -> None:
    """Lines, hours and speakers, by package and part."""
    seconds: dict[tuple[str, str], float] = defaultdict(float)
    counts: Counter[tuple[str, str]] = Counter()
    speakers: dict[tuple[str, str], set[str]] = defaultdict(set)
    for row in rows:
        key = row.package, row.part
        seconds[key] += row.seconds
        counts[key] += 1
        speakers[key].add(row.speaker)
    table = [
        (*key, counts[key], round(seconds[key] / 3_600, 2), len(speakers[key] - {""}) or "unknown")
        for key in sorted(counts)
    ]
    show("people's lines", ("package", "part", "lines", "hours", "speakers"), table)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--folder", type=Path, required=True)
    chosen = parser.parse_args()
    chosen.folder.mkdir(parents=True, exist_ok=True)
    rows = list(extract(chosen.folder))
    found = Counter(row.package for row in rows)
    if found != COUNTS:
        raise UnreadableData(f"{dict(found)} lines were read, not {COUNTS}")
    with (chosen.folder / LIST).open("w", newline="") as out:
        rows_out = csv.writer(out, delimiter="\t", quoting=csv.QUOTE_NONE, quotechar=None)
        rows_out.writerow(COLUMNS)
        for row in rows:
            rows_out.writerow([getattr(row, name) for name in COLUMNS])
    report(rows)


if __name__ == "__main__":
    main()
