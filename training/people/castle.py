"""Read the lines of `drascula`: recordings by character and number, and their texts.

A recording is `<character><number>.ALS`: unsigned samples of 8 bits, 11,025 Hz, without a header.
`drascula.dat` holds a table of texts for each character, numbers big-endian: u16 count, then for
each of six languages u16 size and so many bytes. There each text ends with 0, and the u16 before it
says how far behind its beginning the next one begins.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from training.people.lines import Line, UnreadableData, of_bytes

FOLDER = "usr/share/scummvm/drascula"
RATE = 11_025
TABLES = 7_253
"""Where the first table begins."""

LANGUAGES = 6
CODES = {"en": "cp437", "es": "cp850"}
BLOCKS = {"en": 0, "es": 1}
"""Which of a table's blocks has the texts of a language."""

CHARACTERS = ("hero", "d", "b", "bj", "e", "i", "l", "p", "t", "vb")
"""In the order of their tables; the hero's recordings have no letters before their number."""

FIRST_TEXT = 4
MIN_BYTES = 2_000


def texts(data: bytes, at: int, language: str = "en") -> tuple[list[str], int]:
    """A table's texts in a language, and where the next table begins.

    Raises:
        UnreadableData: it is laid out otherwise.
    """
    try:
        (count,) = struct.unpack_from(">H", data, at)
        at += 2
        blocks = []
        for _ in range(LANGUAGES):
            (size,) = struct.unpack_from(">H", data, at)
            blocks.append(data[at + 2 : at + 2 + size])
            at += 2 + size
        block, place, found = blocks[BLOCKS[language]], FIRST_TEXT, []
        for _ in range(count):
            found.append(block[place : block.index(0, place)].decode(CODES[language]))
            place += struct.unpack_from(">H", block, place - 2)[0]
    except (struct.error, ValueError) as error:
        raise UnreadableData(f"drascula.dat has no table of texts at byte {at}: {error}") from error
    return found, at


def lines(package: Path, language: str = "en", tables: Path | None = None) -> Iterator[Line]:
    """Every recorded line that has a text; each language is a package of its own.

    Args:
        tables: the English package, which has the texts of all languages.

    Raises:
        UnreadableData: a file is not laid out as here.
    """
    folder = package / FOLDER / language
    data = ((tables or package) / FOLDER / "en" / "drascula.dat").read_bytes()
    at = TABLES
    for character in CHARACTERS:
        known, at = texts(data, at, language)
        letters = "" if character == "hero" else character.upper()
        named = re.compile(rf"{letters}(\d+)\.ALS")
        for file in sorted(folder.iterdir()):
            number = named.fullmatch(file.name)
            if number is None or int(number[1]) >= len(known) or not known[int(number[1])].strip():
                continue
            samples = np.fromfile(file, np.uint8)
            if len(samples) >= MIN_BYTES:
                sound = of_bytes(samples, RATE)
                yield Line(
                    f"{character}-{int(number[1]):03}", known[int(number[1])], character, sound
                )
