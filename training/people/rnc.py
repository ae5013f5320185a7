"""Unpack RNC method 1: runs of bytes and copies, with three Huffman tables a block.

Layout (numbers big-endian): "RNC", method 1, u32 unpacked, u32 packed, two u16 checksums, u8, u8
blocks, data. Bits are taken from the low end of little-endian words of 16 bits; whole bytes lie
between these words.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from training.people.lines import UnreadableData

MAGIC = b"RNC\x01"
HEADER = 18
TABLES, LENGTHS = 3, 32


def unpack(data: bytes) -> bytes:
    """The unpacked bytes.

    Raises:
        UnreadableData: no such data, or a code that no table has.
    """
    if data[:4] != MAGIC:
        raise UnreadableData(f"packed data begins with {data[:4]!r}, not {MAGIC!r}")
    size = int.from_bytes(data[4:8], "big")
    out = np.zeros(size, np.uint8)
    if not _unpack(np.frombuffer(data, np.uint8), HEADER, out):
        raise UnreadableData("packed data has a code that none of its tables has")
    return out.tobytes()


@njit(cache=True)
def _word(source, at):  # type: ignore[no-untyped-def]  # compiled
    """16 bits at a place, zeros after the end."""
    found = np.int64(0)
    if at < len(source):
        found |= np.int64(source[at])
    if at + 1 < len(source):
        found |= np.int64(source[at + 1]) << 8
    return found


@njit(cache=True)
def _take(source, state, count):  # type: ignore[no-untyped-def]  # compiled
    """The next bits. `state`: bits at hand, how many, place of the last word that was read."""
    found = state[0] & ((np.int64(1) << count) - 1)
    state[0] >>= count
    state[1] -= count
    if state[1] < 16:
        state[2] += 2
        state[0] |= _word(source, state[2]) << state[1]
        state[1] += 16
    return found


@njit(cache=True)
def _read_table(source, state, codes, lengths):  # type: ignore[no-untyped-def]  # compiled
    """A canonical table: `lengths` by value, `codes` with their bits in the order they come in."""
    count = _take(source, state, 5)
    lengths[:] = 0
    for value in range(count):
        lengths[value] = _take(source, state, 4)
    code = np.int64(0)
    for length in range(1, 16):
        for value in range(count):
            if lengths[value] == length:
                turned, rest = np.int64(0), code
                for _ in range(length):
                    turned = (turned << 1) | (rest & 1)
                    rest >>= 1
                codes[value] = turned
                code += 1
        code <<= 1


@njit(cache=True)
def _value(source, state, codes, lengths):  # type: ignore[no-untyped-def]  # compiled
    """The next number by a table; −1 where no code fits. Above 1 it stands for a count of bits."""
    for value in range(LENGTHS):
        length = lengths[value]
        if length and (state[0] & ((np.int64(1) << length) - 1)) == codes[value]:
            _take(source, state, length)
            if value < 2:
                return np.int64(value)
            return (np.int64(1) << (value - 1)) | _take(source, state, value - 1)
    return np.int64(-1)


@njit(cache=True)
def _unpack(source, start, out):  # type: ignore[no-untyped-def]  # compiled
    state = np.array([_word(source, start), 16, start], np.int64)
    codes = np.zeros((TABLES, LENGTHS), np.int64)
    lengths = np.zeros((TABLES, LENGTHS), np.int64)
    _take(source, state, 2)
    made, size = 0, len(out)
    while made < size:
        for table in range(TABLES):
            _read_table(source, state, codes[table], lengths[table])
        left = _take(source, state, 16)
        while True:
            plain = _value(source, state, codes[0], lengths[0])
            wanted = min(plain, size - made)
            if plain < 0 or (wanted and state[2] + wanted > len(source)):
                return False
            if plain:
                out[made : made + wanted] = source[state[2] : state[2] + wanted]
                made += wanted
                state[2] += plain
                # The word that was read ahead lay where the bytes are: it is read anew behind them.
                state[1] -= 16
                state[0] &= (np.int64(1) << state[1]) - 1
                state[0] |= _word(source, state[2]) << state[1]
                state[1] += 16
            left -= 1
            if left <= 0:
                break
            back = _value(source, state, codes[1], lengths[1])
            count = _value(source, state, codes[2], lengths[2])
            if back < 0 or count < 0 or back + 1 > made:
                return False
            for _ in range(min(count + 2, size - made)):
                out[made] = out[made - back - 1]
                made += 1
    return True
