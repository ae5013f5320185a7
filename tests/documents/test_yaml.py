"""YAML read in one pass, as the careful reader has it."""

import random
import unittest
from pathlib import Path

import fond_echo
from fond_echo.documents.careful_yaml import read_carefully
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.source import read_yaml

PIECES = (
    "a: 1", "b:", "  - x", "  - y: 2.5", "    z: 'it''s'", 'c: "two\\nlines\\u00e9"', "d: |", "  text",
    "  more: text", "e: >-", "  folded", "  text", "f: {g: 1, h: [1, two, \"3\"]}", "# comment", "i: # c",
    "  j: ~", "k: null", "l: yes", "m: 1e3", "n: 0x1f", "o: 010", "p: -.5", "q: 2026-12-01", "r: !!str 1",
    "s: &x 1", "t: *x", "u: <<", "? v", ": w", "- x", "---", "...", "%YAML 1.2", "\tx: 1", "y: [1,", "z: {a: 1",
    "a: 2", "é: ü", "𝄞: 🎵", "key with spaces: v", "'q k': v", "1: one", "true: t", "n: 'a", "b: a: c", "x: - y",
    "w: `x`", "v: @x", "u: a #b", "t: a#b", "s: 'x' y", "", "   ", "long: " + "x" * 200, "o: 'multi", "  line'",
    "m: plain", "  multi", "url: http://x.example:80/a", "time: 16:10", "neg: -7", "big: 123456789012345678901",
)  # fmt: skip


def outcome(read, text):
    try:
        source = read(text, "f.yaml")
    except InvalidFile as error:
        return error.errors
    # Where nothing is written, one takes the end of the key for its place, the other what follows.
    empty = {path for path in source.places if path and _at(source.value, path) is None}
    places = {path: place for path, place in source.places.items() if path not in empty}
    return source.value, places, source.keys


def _at(value, path):
    for step in path:
        value = value[step]
    return value


class OnePass(unittest.TestCase):
    def test_files_of_our_own(self):
        files = sorted(Path(fond_echo.__file__).parent.rglob("*.yaml"))
        self.assertGreater(len(files), 5)
        for file in files:
            text = file.read_text()
            self.assertEqual(outcome(read_yaml, text), outcome(read_carefully, text), file)

    def test_whatever_is_put_together(self):
        chance = random.Random(20261201)
        right = 0
        for _ in range(1_500):
            lines = chance.choices(PIECES, k=chance.randint(1, 7))
            text = "\n".join(lines) + chance.choice(("", "\n", "\n\n"))
            given = outcome(read_yaml, text)
            self.assertEqual(repr(given), repr(outcome(read_carefully, text)), text)
            right += isinstance(given[0], dict)
        self.assertGreater(right, 60, "not all of it is refused")
