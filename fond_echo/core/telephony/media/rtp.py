"""RTP and RTCP packets (RFC 3550), and the numbers that reports are made of."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field

from fond_echo.core.telephony.errors import MalformedPacket

HEADER = struct.Struct("!BBHII")
VERSION = 2
SENDER_REPORT, RECEIVER_REPORT, SOURCE, GOODBYE = 200, 201, 202, 203
NTP_OFFSET = 2_208_988_800
"""Seconds from 1900 to 1970."""


@dataclass(frozen=True)
class RtpPacket:
    """One packet of sound or of a key event."""

    payload_type: int
    sequence: int
    timestamp: int
    source: int
    payload: bytes = field(repr=False)
    marker: bool = False

    def to_bytes(self) -> bytes:
        second = self.marker << 7 | self.payload_type
        return (
            HEADER.pack(VERSION << 6, second, self.sequence, self.timestamp, self.source)
            + self.payload
        )


def read_rtp(data: bytes) -> RtpPacket:
    """Raises MalformedPacket where the bytes are not one."""
    if len(data) < HEADER.size:
        raise MalformedPacket(f"{len(data)} bytes are no RTP packet")
    first, second, sequence, timestamp, source = HEADER.unpack_from(data)
    if first >> 6 != VERSION:
        raise MalformedPacket(f"the version is {first >> 6}")
    if 192 <= second <= 223:
        raise MalformedPacket("this is an RTCP packet")
    start = HEADER.size + 4 * (first & 15)
    if first & 0x10:
        if len(data) < start + 4:
            raise MalformedPacket("the header is cut off")
        start += 4 + 4 * struct.unpack_from("!H", data, start + 2)[0]
    end = len(data)
    if first & 0x20:
        padding = data[-1]
        if not 0 < padding <= end - start:
            raise MalformedPacket("the padding is longer than the packet")
        end -= padding
    if start > end:
        raise MalformedPacket("the header is longer than the packet")
    return RtpPacket(second & 127, sequence, timestamp, source, data[start:end], bool(second & 128))


@dataclass(frozen=True)
class Report:
    """What a receiver says of one source (RFC 3550 §6.4.1). `lost_share` is of 256."""

    source: int
    lost_share: int
    lost: int
    highest: int
    jitter: int
    last_report: int = 0
    delay: int = 0


@dataclass(frozen=True)
class Rtcp:
    """A compound packet: who it is from, what was sent, what was received, whether it is over.

    Attributes:
        sent: (NTP time in 64 bits, RTP time, packets, bytes), of a sender report.
    """

    source: int
    sent: tuple[int, int, int, int] | None = None
    reports: tuple[Report, ...] = ()
    name: str = ""
    over: bool = False

    def to_bytes(self) -> bytes:
        blocks = b"".join(_block(each) for each in self.reports[:31])
        count = len(self.reports[:31])
        if self.sent is None:
            data = _packet(RECEIVER_REPORT, count, struct.pack("!I", self.source) + blocks)
        else:
            head = struct.pack(
                "!IQIII", self.source, self.sent[0], *(v & 0xFFFFFFFF for v in self.sent[1:])
            )
            data = _packet(SENDER_REPORT, count, head + blocks)
        if self.name:
            text = self.name.encode()[:255]
            chunk = struct.pack("!IBB", self.source, 1, len(text)) + text + b"\0"
            data += _packet(SOURCE, 1, chunk + bytes(-len(chunk) % 4))
        if self.over:
            data += _packet(GOODBYE, 1, struct.pack("!I", self.source))
        return data


def _block(report: Report) -> bytes:
    lost = max(-0x800000, min(0x7FFFFF, report.lost)) & 0xFFFFFF
    return struct.pack(
        "!IIIIII", report.source, report.lost_share << 24 | lost, report.highest & 0xFFFFFFFF,
        report.jitter, report.last_report, report.delay,
    )  # fmt: skip


def _packet(kind: int, count: int, body: bytes) -> bytes:
    return struct.pack("!BBH", VERSION << 6 | count, kind, len(body) // 4) + body


def read_rtcp(data: bytes) -> Rtcp:
    """Raises MalformedPacket where the bytes are not one."""
    at = 0
    source: int | None = None
    sent: tuple[int, int, int, int] | None = None
    reports: list[Report] = []
    name, over = "", False
    while at < len(data):
        if len(data) - at < 4:
            raise MalformedPacket("an RTCP packet is cut off")
        first, kind, words = struct.unpack_from("!BBH", data, at)
        body = data[at + 4 : at + 4 + 4 * words]
        if first >> 6 != VERSION or len(body) < 4 * words:
            raise MalformedPacket("an RTCP packet is cut off, or of another version")
        at += 4 + 4 * words
        count = first & 31
        if kind in (SENDER_REPORT, RECEIVER_REPORT):
            offset = 24 if kind == SENDER_REPORT else 4
            if len(body) < offset + 24 * count:
                raise MalformedPacket("a report is cut off")
            source = struct.unpack_from("!I", body)[0]
            if kind == SENDER_REPORT:
                sent = struct.unpack_from("!QIII", body, 4)
            reports += [_read_block(body, offset + 24 * n) for n in range(count)]
        elif kind == SOURCE:
            name = _name(body) or name
        elif kind == GOODBYE:
            over = True
    if source is None:
        raise MalformedPacket("an RTCP packet begins with a report")
    return Rtcp(source, sent, tuple(reports), name, over)


def _read_block(body: bytes, at: int) -> Report:
    source, lost, highest, jitter, last, delay = struct.unpack_from("!IIIIII", body, at)
    total = lost & 0xFFFFFF
    total -= 0x1000000 if total & 0x800000 else 0
    return Report(source, lost >> 24, total, highest, jitter, last, delay)


def _name(body: bytes) -> str:
    if len(body) >= 6 and body[4] == 1 and len(body) >= 6 + body[5]:
        return body[6 : 6 + body[5]].decode("utf-8", "replace")
    return ""


@dataclass
class Reception:
    """Counts what comes of one source: lost, late, how unevenly (RFC 3550 appendix A).

    Attributes:
        rate: of the RTP clock, in Hz.
    """

    source: int
    rate: int
    first: int | None = None
    highest: int = 0
    received: int = 0
    jitter: float = 0.0
    _transit: float | None = None
    _expected_before: int = 0
    _received_before: int = 0

    def extended(self, sequence: int) -> int:
        """A sequence number with its cycles: the one nearest to the highest seen."""
        if self.first is None:
            return sequence + 0x10000
        near = (self.highest & ~0xFFFF) | sequence
        return min((near - 0x10000, near, near + 0x10000), key=lambda n: abs(n - self.highest))

    def count(self, packet: RtpPacket, arrived: float) -> int:
        """Count a packet; gives its extended sequence number.

        Args:
            arrived: seconds of any steady clock.
        """
        number = self.extended(packet.sequence)
        if self.first is None:
            self.first = self.highest = number
        self.highest = max(self.highest, number)
        self.first = min(self.first, number)
        self.received += 1
        transit = arrived * self.rate - packet.timestamp
        if self._transit is not None:
            # Timestamps turn over after 2^32.
            moved = abs((transit - self._transit + 2**31) % 2**32 - 2**31)
            self.jitter += (moved - self.jitter) / 16.0
        self._transit = transit
        return number

    @property
    def expected(self) -> int:
        return 0 if self.first is None else self.highest - self.first + 1

    @property
    def lost(self) -> int:
        return self.expected - self.received

    def report(self, last_report: int = 0, delay: int = 0) -> Report:
        """What came since the report before."""
        expected = self.expected - self._expected_before
        missing = expected - (self.received - self._received_before)
        self._expected_before, self._received_before = self.expected, self.received
        share = max(0, min(255, 256 * missing // expected)) if expected > 0 else 0
        return Report(
            self.source,
            share,
            self.lost,
            self.highest - 0x10000,
            int(self.jitter),
            last_report,
            delay,
        )


def ntp(seconds: float) -> int:
    """A time since 1970 as 64 bits of NTP (RFC 3550 §4)."""
    return int((seconds + NTP_OFFSET) * 2**32) & 0xFFFFFFFFFFFFFFFF


def middle(stamp: int) -> int:
    """The middle 32 bits of an NTP time."""
    return stamp >> 16 & 0xFFFFFFFF
