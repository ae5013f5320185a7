"""Ogg pages (RFC 3533): bytes in, pages and packets out, and back. No I/O.

A page carries up to 255 segments of up to 255 bytes. A packet is a run of segments that ends
with one shorter than 255; it may go on in the next page, which then says so in its flags. The
granule position of a page belongs to the last packet that ends in it.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from fond_echo.core.audio.errors import BrokenSound

CAPTURE = b"OggS"
HEADER = struct.Struct("<4sBBqIIIB")
CRC_OFFSET = 22
MAX_SEGMENTS = 255
NO_GRANULE = -1
"""The granule position of a page in which no packet ends (RFC 3533 §6)."""

CONTINUED, FIRST, LAST = 1, 2, 4

_REVERSED = bytes(int(f"{byte:08b}"[::-1], 2) for byte in range(256))


def checksum(data: bytes) -> int:
    """The CRC of RFC 3533: polynomial 0x04c11db7, not reflected, nothing inverted.

    zlib computes the reflected form of the same polynomial, so the bits of every byte go in
    mirrored and the bits of the result come out mirrored; this keeps the loop in C.
    """
    mirrored = zlib.crc32(data.translate(_REVERSED), 0xFFFFFFFF) ^ 0xFFFFFFFF
    return int(f"{mirrored:032b}"[::-1], 2)


@dataclass(frozen=True)
class Page:
    """One page. `segments` are the lengths in its segment table; `body` is their sum long."""

    serial: int
    sequence: int
    granule: int
    segments: tuple[int, ...]
    body: bytes
    continued: bool = False
    first: bool = False
    last: bool = False

    def to_bytes(self) -> bytes:
        flags = self.continued * CONTINUED | self.first * FIRST | self.last * LAST
        header = HEADER.pack(
            CAPTURE, 0, flags, self.granule, self.serial, self.sequence, 0, len(self.segments)
        )
        data = bytearray(header + bytes(self.segments) + self.body)
        struct.pack_into("<I", data, CRC_OFFSET, checksum(bytes(data)))
        return bytes(data)


def segment_table(length: int) -> list[int]:
    """The segment lengths of a packet (RFC 3533 §6): 255s, then one shorter, even if zero."""
    return [255] * (length // 255) + [length % 255]


def pages_of(
    packets: Iterable[tuple[bytes, int]], serial: int, sequence: int, *, per_page: int
) -> Iterator[Page]:
    """Lay packets out on pages, none of them flagged first or last.

    Args:
        packets: each packet with the granule position at its end.
        per_page: a page is closed after this many packets, or when its table is full.

    A packet too large for what is left of a page goes on in the next one.
    """
    table: list[int] = []
    body = bytearray()
    granule, count, continued = NO_GRANULE, 0, False

    def close(goes_on: bool) -> Page:
        nonlocal table, body, granule, count, continued, sequence
        page = Page(serial, sequence, granule, tuple(table), bytes(body), continued)
        table, body, granule, count = [], bytearray(), NO_GRANULE, 0
        continued, sequence = goes_on, sequence + 1
        return page

    for packet, end in packets:
        offset = 0
        for length in segment_table(len(packet)):
            if len(table) == MAX_SEGMENTS:
                yield close(goes_on=offset > 0)
            table.append(length)
            body += packet[offset : offset + length]
            offset += length
        granule, count = end, count + 1
        if count == per_page:
            yield close(goes_on=False)
    if table:
        yield close(goes_on=False)


class PageReader:
    """Finds pages in bytes that arrive in any pieces.

    Bytes between pages are skipped and counted in `skipped`, as RFC 3533 asks of a reader that
    recapture after damage; pages whose checksum is wrong are skipped and counted in `damaged`.
    """

    def __init__(self) -> None:
        self._pending = bytearray()
        self.skipped = 0
        self.damaged = 0

    @property
    def pending(self) -> int:
        """Bytes received that do not make a page yet."""
        return len(self._pending)

    def feed(self, data: bytes) -> list[Page]:
        """Take bytes and give the pages they complete."""
        self._pending += data
        pages: list[Page] = []
        while (page := self._next()) is not None:
            pages.append(page)
        return pages

    def _next(self) -> Page | None:
        while True:
            start = self._pending.find(CAPTURE)
            if start < 0:
                self._drop(max(0, len(self._pending) - len(CAPTURE) + 1))
                return None
            self._drop(start)
            if len(self._pending) < HEADER.size:
                return None
            _, version, flags, granule, serial, sequence, crc, count = HEADER.unpack_from(
                self._pending
            )
            table = bytes(self._pending[HEADER.size : HEADER.size + count])
            end = HEADER.size + count + sum(table)
            if len(table) < count or len(self._pending) < end:
                return None
            data = bytes(self._pending[:end])
            blank = data[:CRC_OFFSET] + b"\0\0\0\0" + data[CRC_OFFSET + 4 :]
            if version != 0 or checksum(blank) != crc:
                self.damaged += 1
                self._drop(len(CAPTURE))
                continue
            del self._pending[:end]
            return Page(
                serial,
                sequence,
                granule,
                tuple(table),
                data[HEADER.size + count :],
                bool(flags & CONTINUED),
                bool(flags & FIRST),
                bool(flags & LAST),
            )

    def _drop(self, count: int) -> None:
        self.skipped += count
        del self._pending[:count]


def packets_of(pages: Iterable[Page]) -> Iterator[tuple[bytes, Page]]:
    """The packets of one logical stream, each with the page in which it ends.

    A packet whose beginning was lost is left out, and so is one that never ends.

    Raises:
        BrokenSound: pages of more than one logical stream.
    """
    started = False
    packet = bytearray()
    serial: int | None = None
    for page in pages:
        if serial not in (None, page.serial):
            raise BrokenSound(
                "the Ogg file holds several streams at once",
                remedy="send one audio stream by itself",
            )
        serial = page.serial
        if not page.continued:
            packet, started = bytearray(), True
        offset = 0
        for length in page.segments:
            packet += page.body[offset : offset + length]
            offset += length
            if length < 255:
                if started:
                    yield bytes(packet), page
                packet, started = bytearray(), True
