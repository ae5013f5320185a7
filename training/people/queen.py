"""Read the lines of `flight-of-the-amazon-queen`: one file, `queen.1c`, numbers big-endian.

Table: "QTBL", version[6], two zero bytes, u8 compression (1: MP3), u16 count, then for each file
name[12], u8 bundle, u32 offset, u32 size. Sound lies in `*.SB`, texts in dialogues (`*.DOG`),
cutaways (`*.CUT`) and the hero's lists (`QUEEN2.JAS`). A text is cut into segments at `*XX`;
segment k of the text with the name NAME is said in NAMEk.SB, k in hexadecimal figures.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from fond_echo.core.audio.containers import decode
from training.people.lines import Line, UnreadableData

FILE = "usr/share/scummvm/flight-of-the-amazon-queen/queen.1c"
HERO = "joe"
BANK = 20
"""Bytes before the content of a `.DOG`, a `.CUT` and `QUEEN.JAS`."""

RESPONSES = 40
WAITS = "WT"
"""The command of a segment that is not said."""


@dataclass(frozen=True)
class Said:
    """A text, with the name of its recordings but for the segment."""

    name: str
    text: str
    speaker: str


class Archive:
    """The files of `queen.1c`."""

    def __init__(self, data: bytes) -> None:
        if data[:4] != b"QTBL":
            raise UnreadableData(f"queen.1c begins with {data[:4]!r}, not b'QTBL'")
        self._data = data
        (count,) = struct.unpack_from(">H", data, 13)
        self._places: dict[str, tuple[int, int]] = {}
        for at in range(15, 15 + 21 * count, 21):
            name, _, offset, size = struct.unpack_from(">12sBII", data, at)
            self._places[name.split(b"\0")[0].decode("latin-1")] = offset, size

    def names(self, ending: str) -> list[str]:
        return sorted(name for name in self._places if name.endswith(ending))

    def read(self, name: str) -> bytes:
        if name not in self._places:
            raise UnreadableData(f"queen.1c has no file {name}")
        offset, size = self._places[name]
        return self._data[offset : offset + size]


def string(data: bytes, at: int, align: int) -> tuple[str, int]:
    """A string of u8 length at a place, and where the next begins: padded as counted from its
    first letter's place, where it has any."""
    count = data[at]
    text = data[at + 1 : at + 1 + count].decode("cp437")
    at += 1 + count
    return text, at + (-at % align if count else 0)


def segments(text: str) -> Iterator[tuple[int, str]]:
    """Number and words of each segment that is said. `*XY` takes eleven characters more."""
    start = at = number = 0
    while at < len(text):
        if text[at] != "*":
            at += 1
            continue
        words, command = text[start:at], text[at + 1 : at + 3]
        at += 14 if command == "XY" else 3
        start, number = at, number + 1
        if command != WAITS:
            yield number, words
    if start < len(text):
        yield number + 1, text[start:]


def dialogues(archive: Archive) -> Iterator[Said]:
    """Texts of the dialogues: the hero's, then the other's."""
    for file in archive.names(".DOG"):
        data = archive.read(file)[BANK:]
        levels, _, talk, ours, theirs = struct.unpack_from(">5h", data)
        first, _, last = struct.unpack_from(">3H", data, 22)
        other = re.sub(r"\d+$", "", file[: -len(".DOG")]).lower()
        for start, count, letter, speaker in (
            (32 + 96 * abs(levels), ours, "J", HERO),
            (first, theirs, "P", other),
        ):
            at = start
            for _ in range(count):
                if at + 5 > len(data):
                    break
                (number,) = struct.unpack_from(">H", data, at + 2)
                text, at = string(data, at + 4, 4)
                middle = f"{number:04X}" if number else "SSSS"
                yield Said(f"{talk:02d}{middle}{letter}", text, speaker)
        text, at = string(data, last, 2)
        yield Said(f"{talk:02d}XXXXP", text, other)
        text, at = string(data, at, 2)
        yield Said(f"{talk:02d}XXXXJ", text, HERO)


def cutaways(archive: Archive, names: dict[int, str]) -> Iterator[Said]:
    """Texts of the scenes between; `names` of the objects that speak."""
    for file in archive.names(".CUT"):
        data = archive.read(file)[BANK:]
        _, count, _, _, at, _ = struct.unpack_from(">6h", data)
        _, at = string(data, at, 2)
        for k in range(abs(count)):
            (who,) = struct.unpack_from(">h", data, 12 + 34 * k)
            if at >= len(data):
                break
            text, at = string(data, at, 2)
            speaker = names.get(who, f"object {who}")
            yield Said(f"{file[: -len('.CUT')].ljust(5, '_')}{k + 1:02d}", text, speaker)


def lists(archive: Archive) -> tuple[list[Said], dict[int, str]]:
    """What the hero says of things, and the names of objects."""
    rows = archive.read("QUEEN2.JAS").decode("cp437").split("\r\n")
    data = archive.read("QUEEN.JAS")[BANK:]
    _, names, objects, described = struct.unpack_from(">4h", data)
    answers = next(k for k, row in enumerate(rows) if row.upper() == "OPEN") + 12
    found = [Said(f"JOE{k + 1:04d}", rows[answers + k], HERO) for k in range(RESPONSES)]
    found += [Said(f"JOE{k + RESPONSES + 1:04d}", rows[k], HERO) for k in range(described)]
    called = {0: HERO}
    for k in range(1, objects + 1):
        (name,) = struct.unpack_from(">h", data, 8 + 16 * (k - 1))
        if 0 < abs(name) <= names:
            called[k] = rows[described + abs(name) - 1].lower()
    return found, called


def lines(package: Path) -> Iterator[Line]:
    """All lines of the unpacked package whose text is certain.

    Raises:
        UnreadableData: the file is not laid out so.
    """
    archive = Archive((package / FILE).read_bytes())
    described, names = lists(archive)
    texts: dict[str, dict[str, str]] = {}
    for said in (*dialogues(archive), *cutaways(archive, names), *described):
        for number, segment in segments(said.text):
            words = segment.replace("\0", "").strip()
            if words:
                texts.setdefault(f"{said.name}{number:X}", {})[words] = said.speaker
    for file in archive.names(".SB"):
        name = file[: -len(".SB")]
        found = texts.get(name, {})
        sound = archive.read(file)
        if len(found) != 1 or sound[:1] != b"\xff":
            continue
        ((words, speaker),) = found.items()
        yield Line(name, words, speaker, decode(sound).clip)
