"""Opus in Ogg (RFC 7845): its two headers, and how long a packet is (RFC 6716 §3.1)."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field

from fond_echo.core.audio.errors import BrokenSound

RATE = 48_000
"""Granule positions and pre-skip always count at 48 kHz (RFC 7845 §4)."""

MAX_PACKET = 5_760
"""Samples: no packet is longer than 120 ms (RFC 6716 §3.2.5)."""

_HEAD = struct.Struct("<8sBBHIhB")


@dataclass(frozen=True)
class OpusHead:
    """The identification header (RFC 7845 §5.1).

    Attributes:
        channel_count: 1 to 255.
        pre_skip: samples at 48 kHz to leave out from the start of the decoded sound.
        input_rate: what the sound was recorded at, for information; 0 when not known.
        output_gain: in 1/256 dB, to be applied by the decoder.
        family: the channel mapping family; 0 is mono or stereo in one stream.
    """

    channel_count: int
    pre_skip: int
    input_rate: int = RATE
    output_gain: int = 0
    family: int = 0

    def to_bytes(self) -> bytes:
        return _HEAD.pack(
            b"OpusHead",
            1,
            self.channel_count,
            self.pre_skip,
            self.input_rate,
            self.output_gain,
            self.family,
        )

    @classmethod
    def from_bytes(cls, packet: bytes) -> OpusHead:
        """Raises BrokenSound for anything that is not such a header."""
        if len(packet) < _HEAD.size or packet[:8] != b"OpusHead":
            raise BrokenSound("the first Ogg packet is not an OpusHead header")
        _, version, channel_count, pre_skip, rate, gain, family = _HEAD.unpack_from(packet)
        if version >= 16:
            raise BrokenSound(f"Opus header version {version} is not known; 1 is")
        if channel_count == 0:
            raise BrokenSound("the OpusHead header declares no channels")
        return cls(channel_count, pre_skip, rate, gain, family)


@dataclass(frozen=True)
class OpusTags:
    """The comment header (RFC 7845 §5.2)."""

    vendor: str
    comments: tuple[str, ...] = field(default=())

    def to_bytes(self) -> bytes:
        vendor = self.vendor.encode()
        parts = [b"OpusTags", struct.pack("<I", len(vendor)), vendor]
        parts.append(struct.pack("<I", len(self.comments)))
        for comment in self.comments:
            raw = comment.encode()
            parts += [struct.pack("<I", len(raw)), raw]
        return b"".join(parts)

    @classmethod
    def from_bytes(cls, packet: bytes) -> OpusTags:
        """Raises BrokenSound for anything that is not such a header."""
        if packet[:8] != b"OpusTags":
            raise BrokenSound("the second Ogg packet is not an OpusTags header")
        try:
            vendor, offset = _string(packet, 8)
            (count,) = struct.unpack_from("<I", packet, offset)
            offset += 4
            comments: list[str] = []
            for _ in range(count):
                comment, offset = _string(packet, offset)
                comments.append(comment)
        except struct.error as error:
            raise BrokenSound("the OpusTags header is cut short") from error
        return cls(vendor, tuple(comments))


def _string(packet: bytes, offset: int) -> tuple[str, int]:
    (length,) = struct.unpack_from("<I", packet, offset)
    start = offset + 4
    if start + length > len(packet):
        raise struct.error("string runs over the end")
    return packet[start : start + length].decode("utf-8", "replace"), start + length


def packet_samples(packet: bytes) -> int:
    """The length of an Opus packet in samples at 48 kHz (RFC 6716 §3.1 and §3.2).

    Raises:
        BrokenSound: an empty packet, or one that claims more than 120 ms.
    """
    if not packet:
        raise BrokenSound("an Opus packet is empty")
    config, code = packet[0] >> 3, packet[0] & 3
    if config < 12:
        frame = (480, 960, 1_920, 2_880)[config & 3]
    elif config < 16:
        frame = (480, 960)[config & 1]
    else:
        frame = (120, 240, 480, 960)[config & 3]
    if code == 3:
        if len(packet) < 2:
            raise BrokenSound("an Opus packet ends before its frame count")
        frames = packet[1] & 63
    else:
        frames = 1 if code == 0 else 2
    if frames == 0 or frames * frame > MAX_PACKET:
        raise BrokenSound(f"an Opus packet claims {frames} frames of {frame} samples")
    return frames * frame
