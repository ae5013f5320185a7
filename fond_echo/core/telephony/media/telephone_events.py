"""Keys as events beside the sound (RFC 4733 §2.5): sent, and received once each."""

from __future__ import annotations

import struct
from dataclasses import dataclass, replace

from fond_echo.core.telephony.errors import MalformedPacket
from fond_echo.core.telephony.media.rtp import RtpPacket

KEYS = "0123456789*#ABCD"
FRAME = 160
"""Of the 8 kHz clock: 20 ms."""

LAST_SENT = 3
"""The last packet of an event is sent so many times."""


@dataclass(frozen=True)
class KeyEvent:
    """The payload: which key, whether it is over, how loud, how long so far in clock ticks."""

    key: str
    over: bool
    volume: int
    duration: int

    def to_bytes(self) -> bytes:
        return struct.pack(
            "!BBH", KEYS.index(self.key), self.over << 7 | self.volume, self.duration
        )


def read_event(payload: bytes) -> KeyEvent | None:
    """None for an event that is no key. Raises MalformedPacket."""
    if len(payload) < 4:
        raise MalformedPacket(f"{len(payload)} bytes are no key event")
    number, flags, duration = struct.unpack_from("!BBH", payload)
    if number >= len(KEYS):
        return None
    return KeyEvent(KEYS[number], bool(flags & 0x80), flags & 0x3F, duration)


class KeyReceiver:
    """Gives each key once, however many packets tell of it, and even if its last ones are lost.

    Every packet of an event has the timestamp of its beginning; another timestamp is another key.
    """

    def __init__(self) -> None:
        self._reported: list[int] = []

    def receive(self, packet: RtpPacket) -> str | None:
        """The key that began, at its first packet; None for all others. Raises MalformedPacket."""
        event = read_event(packet.payload)
        if event is None or packet.timestamp in self._reported:
            return None
        self._reported = [*self._reported[-15:], packet.timestamp]
        return event.key


def key_packets(
    key: str, begin: RtpPacket, frames: int = 5, volume: int = 10
) -> list[tuple[int, RtpPacket]]:
    """The packets of a key that is held for some frames of 20 ms: (frame, packet).

    Args:
        begin: a packet of the key's payload type, with the sequence and timestamp it begins at.
    """
    found: list[tuple[int, RtpPacket]] = []
    for frame in range(frames):
        event = KeyEvent(key, False, volume, (frame + 1) * FRAME)
        packet = replace(
            begin,
            sequence=(begin.sequence + frame) & 0xFFFF,
            payload=event.to_bytes(),
            marker=frame == 0,
        )
        found.append((frame, packet))
    last = KeyEvent(key, True, volume, frames * FRAME).to_bytes()
    for number in range(LAST_SENT):
        sequence = (begin.sequence + frames + number) & 0xFFFF
        found.append((frames, replace(begin, sequence=sequence, payload=last, marker=False)))
    return found
