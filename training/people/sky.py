"""Read the lines of `beneath-a-steel-sky`: a table `sky.dnr` over `sky.dsk`, numbers little-endian.

Table: u32 count, then u16 number, u24 offset (bit 23: the low 23 bits × 16), u24 size (low 22 bits;
bit 23: not packed, bit 22: without its header). Sound is unsigned, 8 bits, 11,025 Hz, behind a
header. The texts' Huffman tree stands in the program of the package `scummvm`, which is only read.
"""

from __future__ import annotations

import struct
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from training.people.lines import Line, UnreadableData, of_bytes
from training.people.rnc import unpack

FOLDER = "usr/share/scummvm/beneath-a-steel-sky"
PROGRAM = "usr/games/scummvm"
RATE = 11_025
HEADER = 22
SPEECH, TEXTS = 50_000, 60_600
SECTIONS = (0, 600, 1_100, 2_430, 3_380, 4_530, 5_080, 5_230)
"""Where each section's messages begin among the files of speech."""

NODES = 245
BLOCK = 32
MIN_BYTES = 2_000

Tree = tuple[tuple[int, int, int], ...]
"""Nodes: left, right, character; a leaf has neither left nor right."""


class Archive:
    """The files of `sky.dsk` by number."""

    def __init__(self, table: bytes, data: bytes) -> None:
        self._data = data
        self._places: dict[int, tuple[int, int, int]] = {}
        (count,) = struct.unpack_from("<I", table)
        if len(table) < 4 + 8 * count:
            raise UnreadableData(f"sky.dnr has {len(table)} bytes, too few for {count} files")
        for at in range(4, 4 + 8 * count, 8):
            number = int.from_bytes(table[at : at + 2], "little")
            offset = int.from_bytes(table[at + 2 : at + 5], "little")
            size = int.from_bytes(table[at + 5 : at + 8], "little")
            start = (offset & 0x7FFFFF) << (4 if offset >> 23 else 0)
            self._places[number] = start, size & 0x3FFFFF, size >> 22

    def __contains__(self, number: int) -> bool:
        return number in self._places

    def read(self, number: int) -> bytes:
        """A file's content, unpacked where it is packed."""
        if number not in self._places:
            raise UnreadableData(f"sky.dnr has no file {number}")
        start, size, flags = self._places[number]
        data = self._data[start : start + size]
        if flags & 2 or not data[0] >> 7:
            return data
        plain = unpack(data[HEADER:])
        return plain if flags & 1 else data[:HEADER] + plain


def trees(program: bytes) -> list[Tree]:
    """Every Huffman tree of so many nodes in a program, found by its shape: nodes of three bytes,
    each one's left child behind it, every leaf of another character."""
    data = np.frombuffer(program, np.uint8)
    last = len(data) - 3 * NODES
    first = data[:last] == 1
    first &= (data[1 : last + 1] > 2) & (data[1 : last + 1] < NODES) & (data[2 : last + 2] == 0)
    first &= (data[3 : last + 3] == 2) & (data[5 : last + 5] == 0)
    found = []
    for at in np.flatnonzero(first):
        rows = data[at : at + 3 * NODES].reshape(NODES, 3).tolist()
        tree = tuple((left, right, character) for left, right, character in rows)
        if _whole(tree):
            found.append(tree)
    return found


def _whole(tree: Tree) -> bool:
    """Whether every node is reached from the first, once."""
    seen: set[int] = set()
    waiting = [0]
    while waiting:
        node = waiting.pop()
        if node in seen or node >= NODES:
            return False
        seen.add(node)
        left, right, _ = tree[node]
        if left or right:
            if left != node + 1:
                return False
            waiting += [left, right]
    leaves = [character for left, right, character in tree if not left and not right]
    return len(seen) == NODES and len(set(leaves)) == len(leaves)


def message(bank: bytes, number: int, tree: Tree) -> str:
    """A text of a bank: u16 start of lengths, u16 start of bits, u16 the bits of each 32 messages
    in pairs; a byte for each message (bit 7: the low bits × 8), which counts pairs of bits.

    Raises:
        UnreadableData: the bits end within the text.
    """
    (lengths, begin) = struct.unpack_from("<2H", bank)
    pairs = sum(struct.unpack_from(f"<{number // BLOCK}H", bank, 4))
    start = lengths + number // BLOCK * BLOCK
    for length in bank[start : start + number % BLOCK]:
        pairs += (length & 0x7F) << 3 if length & 0x80 else length
    at = 2 * pairs + 8 * begin
    text = bytearray()
    while True:
        node = 0
        while tree[node][0] or tree[node][1]:
            if at >= 8 * len(bank):
                raise UnreadableData(f"the bits of message {number} end within it")
            node = tree[node][bank[at >> 3] >> (7 - at % 8) & 1]
            at += 1
        if not tree[node][2]:
            return text.decode("cp437")
        text.append(tree[node][2])


def messages(bank: bytes) -> int:
    """How many texts a bank has."""
    lengths, begin = struct.unpack_from("<2H", bank)
    return begin - lengths


def fitting(candidates: list[Tree], banks: list[bytes]) -> Tree:
    """The tree by which the fewest odd characters come out.

    Raises:
        UnreadableData: none of them reads the texts.
    """
    usual = set("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789 .,!?'-\"")
    odd: Counter[Tree] = Counter()
    for tree in candidates:
        try:
            texts = [message(bank, k, tree) for bank in banks for k in range(0, messages(bank), 7)]
        except UnreadableData:
            continue
        odd[tree] = sum(letter not in usual for text in texts for letter in text) + 1
    if not odd:
        raise UnreadableData("no Huffman tree of the program reads the texts")
    return min(odd, key=lambda tree: odd[tree])


def lines(package: Path, program: Path) -> Iterator[Line]:
    """All lines of the unpacked package that have a text; who says them is not known.

    Args:
        program: the unpacked package `scummvm`.

    Raises:
        UnreadableData: the files are not laid out so.
    """
    folder = package / FOLDER
    archive = Archive((folder / "sky.dnr").read_bytes(), (folder / "sky.dsk").read_bytes())
    banks = [archive.read(TEXTS + section) for section in range(len(SECTIONS))]
    tree = fitting(trees((program / PROGRAM).read_bytes()), banks)
    for section, (bank, first) in enumerate(zip(banks, SECTIONS, strict=True)):
        after = SECTIONS[section + 1] if section + 1 < len(SECTIONS) else SPEECH
        for k in range(min(messages(bank), after - first)):
            number = SPEECH + first + k
            if number not in archive:
                continue
            try:
                text = message(bank, k, tree).strip()
            except UnreadableData:
                continue
            sound = archive.read(number)
            if text and len(sound) >= MIN_BYTES:
                samples = np.frombuffer(sound[HEADER:], np.uint8)
                yield Line(f"{section * 4096 + k}", text, "", of_bytes(samples, RATE))
